package api

import (
	"context"
	"errors"
	"fmt"
	"time"

	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/proof"
	"nimblepane/core/role"
	"nimblepane/engine/proofs"
	"nimblepane/platform"
	"nimblepane/store"
)

type ProofPath struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Server) proofs() {
	register(s, operation{
		method: "GET", path: "/proofs", id: "list-proofs", role: role.Viewer, tag: "versions",
		summary: "Machines that versions were tried out on, the newest first",
	},
		func(ctx context.Context, in *struct {
			Paging
			Image   string `query:"image"`
			Version string `query:"version" doc:"With image: only those of this version"`
		},
		) (*body[client.Page[client.Proof]], error) {
			db := s.store.DB.WithContext(ctx)
			f := store.ProofFilter{Image: in.Image, Limit: in.Limit + 1}
			if in.Version != "" {
				if in.Image == "" {
					return nil, problem.InvalidRequest.Errorf("version %s needs an image: give image and version "+
						"together",
						in.Version)
				}
				img, err := store.ImageNamed(db, in.Image)
				if err != nil {
					return nil, err
				}
				v, err := store.VersionNumbered(db, img, in.Version)
				if err != nil {
					return nil, err
				}
				f.VersionID = v.ID
			}
			var err error
			if f.Before, err = before(in.Cursor); err != nil {
				return nil, err
			}
			rows, err := store.ProofRows(db, f)
			if err != nil {
				return nil, err
			}
			return ok(page(each(rows, proofRow), in.Limit, func(p client.Proof) string {
				return cursor(itoa(p.ID))
			}), nil)
		})
	register(s, operation{
		method: "GET", path: "/proofs/{id}", id: "show-proof", role: role.Viewer, tag: "versions",
		summary: "One machine that a version was tried out on, with what came of it",
	},
		func(ctx context.Context, in *ProofPath) (*body[client.WholeProof], error) {
			return ok(s.proofOut(ctx, in.ID))
		})
	register(s, operation{
		method: "GET", path: "/proofs/{id}/picture.png", id: "show-picture-of-proof", media: "image/png",
		role:    role.Viewer,
		summary: "The picture of its display, when what is on it had been tried", tag: "versions",
	},
		func(ctx context.Context, in *struct {
			ProofPath
			Application string `query:"application" doc:"The picture of what it opened, instead of the display"`
		},
		) (*fileOut, error) {
			tried, err := s.tried(ctx, in.ID)
			if err != nil {
				return nil, err
			}
			return pictureOf(tried, in.Application)
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/prove", id: "prove-version", made: "/proofs/{id}",
		role:    role.Operator,
		summary: "Begin to prove the first start of a version on a machine that is thrown away", tag: "versions",
		status: 202,
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.AtSite
		},
		) (*body[client.WholeProof], error) {
			p, err := s.Proofs.Prove(ctx, actor(ctx), in.Image, in.Number, in.Body.Site)
			if err != nil {
				return nil, err
			}
			return ok(s.proofOut(ctx, p.ID))
		})
	register(s, operation{
		method: "POST", path: "/images/{image}/versions/{number}/try", id: "try-version", made: "/proofs/{id}",
		role:    role.Operator,
		summary: "Begin to make a machine of a version for a person, which goes by itself", tag: "versions",
		status: 202,
	},
		func(ctx context.Context, in *struct {
			VersionPath
			Body client.TryMachine
		},
		) (*body[client.WholeProof], error) {
			p, err := s.Proofs.Try(ctx, actor(ctx), in.Image, in.Number, in.Body.Site,
				time.Duration(in.Body.Seconds)*time.Second)
			if err != nil {
				return nil, err
			}
			return ok(s.proofOut(ctx, p.ID))
		})
	register(s, operation{
		method: "POST", path: "/proofs/{id}/let-go", id: "let-go-of-proof", role: role.Operator, tag: "versions",
		summary: "End a proof, and throw its machine away",
	},
		func(ctx context.Context, in *struct {
			ProofPath
			Body client.LetGo
		},
		) (*body[client.WholeProof], error) {
			if err := s.Proofs.LetGo(ctx, actor(ctx), in.ID, in.Body.Reason); err != nil {
				return nil, err
			}
			return ok(s.proofOut(ctx, in.ID))
		})
}

// tried is what was tried on the machine of a proof.
func (s *Server) tried(ctx context.Context, id int64) (tried platform.Tried, err error) {
	db := s.store.DB.WithContext(ctx)
	p, err := store.ProofByID(db, id)
	if err != nil {
		return tried, err
	}
	works, err := store.ProofWorks(db, p)
	if err != nil {
		return tried, err
	}
	for _, w := range works {
		if w.Kind == store.WorkProveTry {
			return proofs.Tried(w)
		}
	}
	return tried, nil
}

func (s *Server) proofOut(ctx context.Context, id int64) (w client.WholeProof, err error) {
	rows, err := store.ProofRows(s.store.DB.WithContext(ctx), store.ProofFilter{ID: id})
	if err != nil {
		return w, err
	}
	if len(rows) == 0 {
		return w, fmt.Errorf("proof %d: %w", id, store.ErrNotFound)
	}
	r := rows[0]
	if w, err = s.wholeProof(ctx, r); err != nil || r.Settled {
		return w, err
	}
	site, err := store.SiteByID(s.store.DB.WithContext(ctx), r.SiteID)
	if err != nil {
		return w, err
	}
	asking, cancel := context.WithTimeout(ctx, machineLimit)
	defer cancel()
	m, err := s.Proofs.Machine(asking, site, r.Proof)
	switch {
	case err == nil:
		seen := client.Machine(m)
		w.Runs = &seen
	case !errors.Is(err, platform.ErrUnknown):
		w.Runs = &client.Machine{Name: w.Machine, Why: err.Error(), Disks: []string{}}
	}
	return w, nil
}

// pictureOf is the picture of an application that was tried, or without one that of the display.
func pictureOf(tried platform.Tried, application string) (*fileOut, error) {
	picture, what := tried.Picture, "the display"
	if application != "" {
		picture, what = nil, application
		for _, r := range tried.Results {
			if r.Name == application && r.Kind == proof.OfApplication {
				picture = r.Picture
			}
		}
	}
	if len(picture) == 0 {
		return nil, fmt.Errorf("a picture of %s: %w", what, store.ErrNotFound)
	}
	return &fileOut{"image/png", picture}, nil
}

func resultOut(r proof.Result) client.ProofResult {
	return client.ProofResult{
		Name: r.Name, Kind: r.Kind, Why: r.Why, Seconds: r.Seconds, Output: r.Output, Picture: len(r.Picture) > 0,
	}
}

// wholeProof shows what the service itself knows of a proof.
func (s *Server) wholeProof(ctx context.Context, r store.ProofRow) (w client.WholeProof, err error) {
	w = client.WholeProof{Results: []client.ProofResult{}, Proof: proofRow(r)}
	tried, err := s.tried(ctx, r.ID)
	for _, t := range tried.Results {
		w.Results = append(w.Results, resultOut(t))
	}
	w.Picture = len(tried.Picture) > 0
	return w, err
}

// proofRow shows a proof without what was tried.
func proofRow(r store.ProofRow) client.Proof {
	p := client.Proof{
		ID: r.ID, Image: r.Image, Version: r.Version, Site: r.Site, Machine: r.Host(), State: r.State,
		Settled: r.Settled, Why: r.Why, AskedBy: r.AskedBy, AskedAt: r.AskedAt, Until: r.Until, EndedAt: r.EndedAt,
	}
	if r.BuildID != nil {
		p.Build = *r.BuildID
	}
	if r.MachineAskedAt != nil && r.SpokeAt != nil {
		p.FirstStart = r.SpokeAt.Sub(*r.MachineAskedAt).Seconds()
	}
	return p
}
