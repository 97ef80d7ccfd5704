package api

import (
	"context"
	"maps"
	"slices"
	"time"

	"nimblepane/client"
	"nimblepane/core/estate"
	"nimblepane/core/image"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/engine/proofs"
	"nimblepane/engine/rollovers"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// ImagePath and its like are the parameters that operations share; they are
// exported because they are filled in by reflection.
type ImagePath struct {
	Image string `path:"image"`
}

type VersionPath struct {
	Image  string `path:"image"`
	Number string `path:"number"`
}

func (s *Server) versions() {
	register(s, operation{
		method: "GET", path: "/images", id: "list-images", summary: "All images", role: role.Viewer,
		tag: "images",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Image]], error) {
			rows, err := store.Images(s.store.DB.WithContext(ctx))
			if err != nil {
				return nil, err
			}
			out := client.Page[client.Image]{Items: []client.Image{}}
			for _, r := range rows {
				img, err := s.imageOut(ctx, r)
				if err != nil {
					return nil, err
				}
				out.Items = append(out.Items, img)
			}
			return ok(out, nil)
		})
	register(s, operation{
		method: "GET", path: "/images/{image}", id: "show-image",
		summary: "One image with its tracks", role: role.Viewer, tag: "images",
	},
		func(ctx context.Context, in *ImagePath) (*body[client.Image], error) {
			row, err := store.ImageNamed(s.store.DB.WithContext(ctx), in.Image)
			if err != nil {
				return nil, err
			}
			return ok(s.imageOut(ctx, row))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/moves", id: "list-moves",
		summary: "What the tracks of an image pointed to, newest first", role: role.Viewer, tag: "images",
	}, s.moves)
	register(s, operation{
		method: "POST", path: "/images/{image}/rollback", on: onImage, id: "rollback",
		summary: "Point live back at an earlier version, bar the one it named, and take the hosts back",
		role:    role.Approver, tag: "images",
	},
		func(ctx context.Context, in *struct {
			ImagePath
			Body client.Rollback
		},
		) (*body[client.RolledBack], error) {
			options, given, err := optionsIn(in.Body.Options, rollover.UrgentOptions)
			if err != nil {
				return nil, err
			}
			r, err := s.Rollovers.Rollback(ctx, actor(ctx),
				rollovers.RollbackRequest{
					Image: in.Image, Leaves: in.Body.Leaves, To: in.Body.To,
					Reason: in.Body.Reason, KeepUsable: in.Body.KeepUsable, TrackOnly: in.Body.TrackOnly,
					Options: options, FloorGiven: slices.Contains(given, "floor"),
				})
			out := client.RolledBack{
				From: r.From, To: r.To, Already: r.Already, Tracks: append([]string{}, r.Tracks...),
				Rollovers: []int64{},
			}
			for _, x := range r.Rollovers {
				out.Rollovers = append(out.Rollovers, x.ID)
			}
			return ok(out, err)
		})

	register(s, operation{
		method: "GET", path: "/images/{image}/versions", id: "list-versions",
		summary: "The versions of an image, newest first", role: role.Viewer, tag: "versions",
	},
		func(ctx context.Context, in *ImagePath) (*body[client.Page[client.Version]], error) {
			db := s.store.DB.WithContext(ctx)
			row, err := store.ImageNamed(db, in.Image)
			if err != nil {
				return nil, err
			}
			versions, err := store.Versions(db, row.ID)
			if err != nil {
				return nil, err
			}
			list, err := s.versionsOut(ctx, row, versions...)
			return ok(client.Page[client.Version]{Items: list}, err)
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions", on: onImage, id: "capture", dry: true,
		made:    "/images/{image}/versions/{number}",
		summary: "Capture a new version from a build machine", role: role.Operator, tag: "versions", status: 202,
	},
		func(ctx context.Context, in *struct {
			ImagePath
			Body client.Capture
		},
		) (*body[client.Version], error) {
			v, err := s.Versions.Capture(ctx, actor(ctx), versions.CaptureRequest{
				Image: in.Image, Site: in.Body.Site, BuildMachine: in.Body.BuildMachine, Number: in.Body.Number,
				Notes: in.Body.Notes, Tags: in.Body.Tags, EndOfLife: in.Body.EndOfLife, Discard: in.Body.Discard,
				BackTo:  in.Body.BackTo,
				Fitness: versions.Fitness{Waive: in.Body.Waive, Unchecked: in.Body.Unchecked},
				Then: func(tx *store.Tx, v store.Version, site store.Site) error {
					if !in.Body.Prove {
						return nil
					}
					return proofs.BeginIn(tx, actor(ctx), &store.Proof{VersionID: v.ID, SiteID: site.ID})
				},
			})
			if err != nil {
				return nil, err
			}
			return ok(s.versionNamed(ctx, in.Image, v.Number))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}", id: "show-version",
		summary: "One version", role: role.Viewer, tag: "versions",
	},
		func(ctx context.Context, in *VersionPath) (*etagged[client.Version], error) {
			v, err := s.versionNamed(ctx, in.Image, in.Number)
			return &etagged[client.Version]{etag(v.Revision), v}, err
		})
	register(s, operation{
		method: "PATCH", path: "/images/{image}/versions/{number}", on: onImage, id: "edit-version",
		summary: "Change notes, tags or end-of-life of a version", role: role.Operator, tag: "versions",
	}, s.editVersion)

	addAct := func(verb string, least role.Role, summary string, act func(context.Context, VersionPath, string) error) {
		register(s, operation{
			method: "POST", path: "/images/{image}/versions/{number}/" + verb, on: onImage, id: verb, dry: true,
			summary: summary, role: least, tag: "versions",
		},
			func(ctx context.Context, in *struct {
				VersionPath
				Body client.Reason
			},
			) (*body[client.Version], error) {
				if err := act(ctx, in.VersionPath, in.Body.Reason); err != nil {
					return nil, err
				}
				return ok(s.versionNamed(ctx, in.Image, in.Number))
			})
	}
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/stage", on: onImage, id: "stage",
		summary: "Point pilot at a version", role: role.Operator, tag: "versions",
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.Staging
		},
		) (*body[client.Version], error) {
			if err := s.Versions.Stage(ctx, actor(ctx), in.Image, in.Number, versions.Staging(in.Body)); err != nil {
				return nil, err
			}
			return ok(s.versionNamed(ctx, in.Image, in.Number))
		})
	addAct("bar", role.Approver, "Mark a version as never to be used again",
		func(ctx context.Context, p VersionPath, reason string) error {
			return s.Versions.Bar(ctx, actor(ctx), p.Image, p.Number, reason)
		})
	addAct("unblock", role.Approver, "Make a blocked version usable again",
		func(ctx context.Context, p VersionPath, reason string) error {
			return s.Versions.Unblock(ctx, actor(ctx), p.Image, p.Number, reason)
		})
	addAct("retire", role.Operator, "Delete a version's copies and keep its record",
		func(ctx context.Context, p VersionPath, reason string) error {
			return s.Versions.Retire(ctx, actor(ctx), p.Image, p.Number, reason)
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/deliver", on: onImage, id: "deliver",
		summary: "Deliver copies again that failed to arrive or are lacking", role: role.Operator, tag: "versions",
		status: 202,
	},
		func(ctx context.Context, in *VersionPath) (*body[client.Delivering], error) {
			n, err := s.Versions.Redeliver(ctx, actor(ctx), in.Image, in.Number)
			return ok(client.Delivering{Copies: n}, err)
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/activate", on: onImage,
		id: "activate", summary: "Point live at a version that has clearance", role: role.Approver, tag: "versions",
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.Activation
		},
		) (*body[client.Version], error) {
			if in.Body.Overrule && whoever(ctx).Role != role.Administrator {
				return nil, problem.Forbidden.Errorf("overriding clearance needs the role administrator")
			}
			if err := s.Versions.Activate(ctx, actor(ctx), in.Image, in.Number,
				versions.Activation{
					Reason: in.Body.Reason, Leaves: in.Body.Leaves, LetGo: in.Body.LetGo,
					Overrule: in.Body.Overrule, Redirect: in.Body.Redirect,
				}); err != nil {
				return nil, err
			}
			return ok(s.versionNamed(ctx, in.Image, in.Number))
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/versions/{number}/trial", id: "show-trial",
		summary: "Clearance of a version, rule by rule, and what testers said", role: role.Viewer, tag: "versions",
	},
		s.trialOf)
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/sign-off", on: onImage, id: "sign",
		summary: "Say yes or no to a version on trial", role: role.Operator, tag: "versions",
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.Sign
		},
		) (*body[client.Trial], error) {
			if err := s.Versions.SignOff(ctx, actor(ctx), in.Image, in.Number, in.Body.Yes,
				in.Body.Comment); err != nil {
				return nil, err
			}
			return s.trialOf(ctx, &in.VersionPath)
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/trial/waivers", on: onImage, id: "waive-downgrade",
		summary: "Pass over that a piece of software is older than in the version in use", role: role.Approver,
		tag: "versions",
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.Waiver
		},
		) (*body[client.Trial], error) {
			if err := s.Versions.Waive(ctx, actor(ctx), in.Image, in.Number, versions.Waiver(in.Body)); err != nil {
				return nil, err
			}
			return s.trialOf(ctx, &in.VersionPath)
		})
}

func (s *Server) editVersion(ctx context.Context, in *struct {
	VersionPath
	IfMatch
	Body client.VersionEdit
},
) (*etagged[client.Version], error) {
	revisions, err := in.revisions()
	if err != nil {
		return nil, err
	}
	edit := versions.VersionEdit{Notes: in.Body.Notes, Tags: in.Body.Tags, Revisions: revisions}
	if in.Body.EndOfLife != nil || in.Body.ClearEndOfLife {
		edit.EndOfLife = &in.Body.EndOfLife
	}
	if err := s.Versions.EditVersion(ctx, actor(ctx), in.Image, in.Number, edit); err != nil {
		return nil, err
	}
	v, err := s.versionNamed(ctx, in.Image, in.Number)
	return &etagged[client.Version]{etag(v.Revision), v}, err
}

const movesShown = 500

func (s *Server) moves(ctx context.Context, in *ImagePath) (*body[client.Page[client.TrackMove]], error) {
	db := s.store.DB.WithContext(ctx)
	row, err := store.ImageNamed(db, in.Image)
	if err != nil {
		return nil, err
	}
	rows, err := store.MoveRows(db, row.ID, movesShown)
	return ok(client.Page[client.TrackMove]{Items: each(rows,
		func(m store.MoveRow) client.TrackMove { return client.TrackMove(m) })}, err)
}

func (s *Server) trialOf(ctx context.Context, in *VersionPath) (*body[client.Trial], error) {
	db := s.store.DB.WithContext(ctx)
	img, err := store.ImageNamed(db, in.Image)
	if err != nil {
		return nil, err
	}
	v, err := store.VersionNumbered(db, img, in.Number)
	if err != nil {
		return nil, err
	}
	answers, err := versions.Clearance(db, img, v, s.engine.Clock.Now())
	if err != nil {
		return nil, err
	}
	signs, err := store.SignOffs(db, v.ID)
	out := client.Trial{Image: img.Name, Number: v.Number, SignOffs: each(signs, func(o store.SignOff) client.SignOff {
		return client.SignOff{Tester: o.Tester, Yes: o.Yes, Comment: o.Comment, At: o.At}
	})}
	out.Rules, out.Cleared = rules(answers)
	return ok(out, err)
}

func span(seconds int64) string { return estate.Span(time.Duration(seconds) * time.Second) }

func (s *Server) imageOut(ctx context.Context, r store.Image) (client.Image, error) {
	db := s.store.DB.WithContext(ctx)
	out := client.Image{
		Name: r.Name, Title: r.Title, Numbering: r.Numbering, MachineClass: r.MachineClass, Testers: r.Testers,
		Soak: span(r.SoakSeconds), Copies: r.Copies, BuildLogs: span(r.LogSeconds),
		RollPilot: r.RollPilot, KeepApplications: r.KeepApplications, NoDowngrades: r.NoDowngrades,
		NoSeriousFlaws: r.NoSeriousFlaws, Independent: r.Independent, Accepted: map[string]string{},
		Tracks: []client.Track{}, Revision: r.Revision, Retention: r.Retention.V.String(),
	}
	plans, err := store.CopyPlans(db, r.ID)
	if err != nil {
		return out, err
	}
	maps.Copy(out.Accepted, r.AcceptedEcosystems.V)
	out.CopyPlans = each(plans, func(p store.CopyPlanRow) client.CopyPlan {
		return client.CopyPlan{Site: p.Site, Copies: p.Copies, Why: p.Why}
	})
	versions, err := store.Versions(db, r.ID)
	if err != nil {
		return out, err
	}
	out.Versions = len(versions)
	number := map[int64]string{}
	for _, v := range versions {
		number[v.ID] = v.Number
	}
	taken, err := store.NumbersTaken(db, r.ID)
	if err != nil {
		return out, err
	}
	out.NextNumber = image.Scheme(r.Numbering).Next(taken, s.engine.Clock.Now())
	tracks, err := store.Tracks(db, r.ID)
	for _, t := range tracks {
		o := client.Track{Name: t.Name, Since: t.Since}
		if t.VersionID != nil {
			o.Version = number[*t.VersionID]
		}
		if t.Name == image.Live && t.FallbackID != nil {
			out.Fallback = number[*t.FallbackID]
		}
		out.Tracks = append(out.Tracks, o)
	}
	return out, err
}

func (s *Server) versionNamed(ctx context.Context, imageName, number string) (client.Version, error) {
	db := s.store.DB.WithContext(ctx)
	img, err := store.ImageNamed(db, imageName)
	if err != nil {
		return client.Version{}, err
	}
	v, err := store.VersionNumbered(db, img, number)
	if err != nil {
		return client.Version{}, err
	}
	list, err := s.versionsOut(ctx, img, v)
	if err != nil {
		return client.Version{}, err
	}
	return list[0], nil
}

// versionsOut shows versions of an image, the newest first.
func (s *Server) versionsOut(ctx context.Context, img store.Image, rows ...store.Version) ([]client.Version, error) {
	db := s.store.DB.WithContext(ctx)
	tracks, err := store.Tracks(db, img.ID)
	if err != nil {
		return nil, err
	}
	hosts, err := store.HostsByVersion(db, img.ID)
	if err != nil {
		return nil, err
	}
	copies, err := store.CopyRows(db, img.ID)
	if err != nil {
		return nil, err
	}
	last, err := store.DeliveriesOf(db, img.ID)
	if err != nil {
		return nil, err
	}
	progress, err := store.CaptureProgress(db, img.ID)
	if err != nil {
		return nil, err
	}
	from, err := store.Origins(db, img.ID)
	if err != nil {
		return nil, err
	}
	listed, err := store.SoftwareCounts(db, img.ID)
	if err != nil {
		return nil, err
	}
	out := each(rows, func(v store.Version) client.Version {
		o := client.Version{
			Image: img.Name, Number: v.Number, State: v.State, Standing: versions.Standing(tracks, v),
			Digest: v.Digest, SizeBytes: v.SizeBytes, SizeBefore: v.SizeBefore, Sealing: v.Sealing, Source: v.Source,
			Findings: each(v.Findings.V, findingOut), Applications: v.Applications.V,
			Notes: v.Notes, Tags: append([]string{}, v.Tags...), EndOfLife: v.EndOfLife, CapturedBy: v.CapturedBy,
			CreatedAt: v.CreatedAt, SealedAt: v.SealedAt, Failure: v.Failure,
			Barred: v.Barred, BarredBy: v.BarredBy, BarredAt: v.BarredAt,
			Progress: progress[v.ID], Hosts: hosts[v.ID], Copies: []client.Copy{}, Revision: v.Revision,
			Build: from[v.ID].Build, Base: from[v.ID].Base, Commit: from[v.ID].Commit,
			Software: listed[v.ID], Unlisted: v.Unlisted, Waived: v.Waived.V,
		}
		for _, c := range copies {
			if c.VersionID == v.ID {
				o.Copies = append(o.Copies, client.Copy{
					Site: c.Site, Ordinal: c.Ordinal, State: c.State,
					Progress: c.Progress, Failure: c.Failure, ReadAt: c.ReadAt, Delivery: lastDelivery(last, c.ID),
				})
			}
		}
		return o
	})
	scheme := image.Scheme(img.Numbering)
	slices.SortFunc(out, func(a, b client.Version) int { return scheme.Compare(b.Number, a.Number) })
	return out, nil
}
