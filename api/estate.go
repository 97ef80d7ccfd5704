package api

import (
	"context"
	"errors"
	"sync"

	"nimblepane/client"
	"nimblepane/core/clearance"
	"nimblepane/core/estate"
	"nimblepane/core/image"
	"nimblepane/core/role"
	"nimblepane/engine"
	"nimblepane/platform"
	"nimblepane/store"
)

func (s *Server) estate() {
	register(s, operation{
		method: "GET", path: "/today", id: "today",
		summary: "What waits for a person now, the most urgent first", role: role.Viewer, tag: "estate",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Matter]], error) {
			list, err := s.engine.Today(ctx)
			return ok(client.Page[client.Matter]{Items: each(list,
				func(m engine.Matter) client.Matter { return client.Matter(m) })}, err)
		})
	register(s, operation{
		method: "PUT", path: "/estate", id: "load-estate",
		summary: "Bring sites, images and pools to what an estate file says", role: role.Administrator, tag: "estate",
	},
		func(ctx context.Context, in *struct {
			DryRun  bool   `query:"dry_run" doc:"Only say what would change"`
			RawBody []byte `contentType:"application/yaml"`
		},
		) (*body[client.Loaded], error) {
			r, err := s.Fleet.LoadEstate(ctx, actor(ctx), in.RawBody, in.DryRun)
			return ok(client.Loaded{Changes: append([]string{}, r.Changes...)}, err)
		})
	register(s, operation{
		method: "GET", path: "/estate", id: "show-estate", media: "application/yaml",
		summary: "The estate as an estate file",
		role:    role.Viewer, tag: "estate",
	}, s.showEstate)
	register(s, operation{
		method: "GET", path: "/sites", id: "list-sites", summary: "All sites", role: role.Viewer,
		tag: "estate",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Site]], error) {
			rows, err := store.Sites(s.store.DB.WithContext(ctx))
			if err != nil {
				return nil, err
			}
			// All at once: a site that hangs is waited for once.
			out := client.Page[client.Site]{Items: make([]client.Site, len(rows))}
			errs := make([]error, len(rows))
			var asking sync.WaitGroup
			for i, r := range rows {
				asking.Go(func() { out.Items[i], errs[i] = s.siteOut(ctx, r) })
			}
			asking.Wait()
			if err := errors.Join(errs...); err != nil {
				return nil, err
			}
			return ok(out, nil)
		})
	register(s, operation{
		method: "GET", path: "/sites/{site}", id: "show-site",
		summary: "One site with its build machines", role: role.Viewer, tag: "estate",
	},
		func(ctx context.Context, in *struct {
			Site string `path:"site"`
		},
		) (*body[client.Site], error) {
			row, err := store.SiteNamed(s.store.DB.WithContext(ctx), in.Site)
			if err != nil {
				return nil, err
			}
			return ok(s.siteOut(ctx, row))
		})
}

func (s *Server) siteOut(ctx context.Context, r store.Site) (client.Site, error) {
	out := client.Site{
		Name: r.Name, Title: r.Title, Platform: r.Platform, Address: r.Address,
		StartsPerMinute: r.StartsPerMinute, ClonesPerCopy: r.ClonesPerCopy, Deliveries: r.Deliveries.V,
		Trouble:      r.Trouble,
		TroubleSince: r.TroubleSince,
	}
	var err error
	if out.Pools, out.Hosts, err = store.AtSite(s.store.DB.WithContext(ctx), r.ID); err != nil {
		return out, err
	}
	ctx, cancel := context.WithTimeout(ctx, machineLimit)
	defer cancel()
	nodes, askErr := s.engine.Nodes(ctx, r)
	if askErr != nil {
		out.Unreachable = askErr.Error()
	}
	out.Hypervisors = each(nodes, func(n platform.Node) client.Hypervisor { return client.Hypervisor(n) })
	machines, askErr := s.engine.BuildMachines(ctx, r)
	if askErr != nil {
		out.Unreachable = askErr.Error()
	}
	out.BuildMachines = each(machines, func(m platform.BuildMachine) client.MachineAtSite {
		return client.MachineAtSite(m)
	})
	return out, err
}

type fileOut struct {
	ContentType string `header:"Content-Type"`
	Body        []byte
}

func (s *Server) showEstate(ctx context.Context, _ *empty) (*fileOut, error) {
	db := s.store.DB.WithContext(ctx)
	var f estate.File
	lines, err := store.Lines(db)
	if err != nil {
		return nil, err
	}
	for _, r := range lines {
		f.Lines = append(f.Lines, r.Settings.V)
	}
	sites, err := store.Sites(db)
	if err != nil {
		return nil, err
	}
	siteNames, imageNames := map[int64]string{}, map[int64]string{}
	for _, r := range sites {
		siteNames[r.ID] = r.Name
		f.Sites = append(f.Sites, r.Estate())
	}
	images, err := store.Images(db)
	if err != nil {
		return nil, err
	}
	for _, r := range images {
		imageNames[r.ID] = r.Name
		tracks, err := store.Tracks(db, r.ID)
		if err != nil {
			return nil, err
		}
		f.Images = append(f.Images, estate.Image{
			Name: r.Name, Title: r.Title, Numbering: r.Numbering, MachineClass: r.MachineClass,
			Tracks: each(tracks, func(t store.Track) string { return t.Name }),
			Clearance: estate.Clearance{
				Testers: &r.Testers, Soak: span(r.SoakSeconds), Copies: &r.Copies,
				KeepApplications: r.KeepApplications, NoDowngrades: r.NoDowngrades,
				NoSeriousFlaws: r.NoSeriousFlaws, Independent: r.Independent,
			},
			BuildLogs: span(r.LogSeconds), RollPilot: r.RollPilot,
			Copies: r.FixedCopies, CopiesAt: r.FixedCopiesAt.V, Retention: retentionIn(r.Retention.V),
		})
	}
	pools, err := store.Pools(db)
	if err != nil {
		return nil, err
	}
	for _, r := range pools {
		f.Pools = append(f.Pools, estate.Pool{
			Name: r.Name, Title: r.Title, Site: siteNames[r.SiteID], Image: imageNames[r.ImageID], Track: r.Track,
			Hosts: r.HostCount, HostPrefix: r.HostPrefix, SeatsPerHost: r.SeatsPerHost, MachineClass: r.MachineClass,
		})
	}
	workshop, err := store.Workshop(db)
	if err != nil {
		return nil, err
	}
	f.Workshop = &workshop
	text, err := f.Text()
	return &fileOut{"application/yaml", text}, err
}

// retentionIn is a rule as an estate file has it, which leaves out one that keeps everything.
func retentionIn(r image.Retention) *image.Retention {
	if !r.On() {
		return nil
	}
	return &r
}

func rules(answers []clearance.Answer) (out []client.Rule, cleared bool) {
	return each(answers, func(a clearance.Answer) client.Rule { return client.Rule(a) }),
		len(clearance.Unmet(answers)) == 0
}
