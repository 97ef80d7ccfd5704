package api

import (
	"bytes"
	"context"
	"fmt"
	"strconv"
	"time"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/engine/builds"
	"nimblepane/platform"
	"nimblepane/store"
)

type MachinePath struct {
	Site    string `path:"site"`
	Machine string `path:"machine"`
}

type FilePath struct {
	MachinePath
	Path string `query:"path" required:"true" minLength:"1" doc:"Full path of the file in the machine"`
}

type BuildPath struct {
	ID int64 `path:"id" minimum:"1"`
}

// fileLimit is how large a file of a build machine may be, in bytes.
const fileLimit = 64 << 20

func (s *Server) builds() {
	s.buildMachines()
	register(s, operation{
		method: "POST", path: "/builds", on: onSheet, id: "start-build", summary: "Begin a build of a sheet",
		role: role.Operator, tag: "builds", status: 202, limit: 4 * sheet.MostBytes,
	},
		func(ctx context.Context, in *struct{ Body client.StartBuild }) (*body[client.WholeBuild], error) {
			if of, err := sheet.Parse([]byte(in.Body.Sheet)); err == nil { // one that is wrong is told so below
				if err := reachImage(ctx, of.Image); err != nil {
					return nil, err
				}
			}
			b, err := s.Builds.StartBuild(ctx, actor(ctx), in.Body.Sheet)
			if err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, b.ID))
		})
	register(s, operation{
		method: "GET", path: "/builds", id: "list-builds", summary: "Builds, newest first", role: role.Viewer,
		tag: "builds",
	},
		func(ctx context.Context, in *struct {
			Paging
			Image string      `query:"image"`
			State build.State `query:"state"`
		},
		) (*body[client.Page[client.Build]], error) {
			after, err := uncursor(in.Cursor)
			if err != nil {
				return nil, err
			}
			f := store.BuildFilter{Image: in.Image, State: in.State, Limit: in.Limit + 1}
			if after != "" {
				if f.Before, err = strconv.ParseInt(after, 10, 64); err != nil {
					return nil, errCursor
				}
			}
			rows, err := store.BuildRows(s.store.DB.WithContext(ctx), f)
			list := each(rows, buildOut)
			return ok(page(list, in.Limit, func(b client.Build) string { return cursor(itoa(b.ID)) }), err)
		})
	register(s, operation{
		method: "GET", path: "/builds/{id}", id: "show-build", summary: "One build with its steps",
		role: role.Viewer, tag: "builds",
	},
		func(ctx context.Context, in *BuildPath) (*body[client.WholeBuild], error) {
			return ok(s.wholeBuild(ctx, in.ID))
		})
	register(s, operation{
		method: "POST", path: "/builds/{id}/cancel", on: onBuild, id: "cancel-build",
		summary: "End a build before its capture, and discard its machine", role: role.Operator, tag: "builds",
	},
		func(ctx context.Context, in *struct {
			BuildPath
			Body client.Reason
		},
		) (*body[client.WholeBuild], error) {
			if err := s.Builds.Cancel(ctx, actor(ctx), in.ID, in.Body.Reason); err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, in.ID))
		})
}

func buildOut(r store.BuildRow) client.Build {
	return client.Build{
		ID: r.ID, Image: r.Image, Site: r.Site, Base: r.Base, Version: r.Version, State: r.State, Settled: r.Settled,
		Machine: r.Machine(), StartedBy: r.StartedBy, StartedAt: r.StartedAt, EndedAt: r.EndedAt, Why: r.Why,
		Cancel: r.Cancel, Done: r.Done, Total: len(r.Plan.V.Steps),
	}
}

func (s *Server) wholeBuild(ctx context.Context, id int64) (w client.WholeBuild, err error) {
	db := s.store.DB.WithContext(ctx)
	rows, err := store.BuildRows(db, store.BuildFilter{ID: id})
	if err != nil {
		return w, err
	}
	if len(rows) == 0 {
		return w, fmt.Errorf("build %d: %w", id, store.ErrNotFound)
	}
	r := rows[0]
	works, err := store.BuildWorks(db, id)
	if err != nil {
		return w, err
	}
	w = client.WholeBuild{
		Build: buildOut(r), Sheet: r.Sheet, Steps: []client.BuildStep{}, Findings: []client.SealFinding{},
	}
	for i, step := range builds.StepsOf(r.Build, works) {
		planned := r.Plan.V.Steps[i]
		out := client.BuildStep{
			Name: planned.Name, Kind: planned.Kinds()[0], State: build.StandsAt(planned, step.Task, r.State),
			Attempts: step.Attempts, ExitCode: step.Done.ExitCode, Output: step.Done.Output, Why: step.Why,
		}
		if !step.BeganAt.IsZero() {
			out.BeganAt = &step.BeganAt
		}
		if !step.EndedAt.IsZero() {
			out.EndedAt = &step.EndedAt
		}
		w.Steps = append(w.Steps, out)
	}
	found, made := builds.Findings(works)
	w.Checked = made
	for _, f := range found {
		w.Findings = append(w.Findings, client.SealFinding(f))
	}
	return w, nil
}

func (s *Server) buildMachines() {
	shown := func(ctx context.Context, site string) (*body[client.Site], error) {
		row, err := store.SiteNamed(s.store.DB.WithContext(ctx), site)
		if err != nil {
			return nil, err
		}
		return ok(s.siteOut(ctx, row))
	}
	const at = "/sites/{site}/build-machines"
	register(s, operation{
		method: "POST", path: at, id: "create-build-machine",
		summary: "Make a build machine from a version or a base disk", role: role.Operator, tag: "build machines",
		status: 201,
	},
		func(ctx context.Context, in *struct {
			Site string `path:"site"`
			Body client.NewBuildMachine
		},
		) (*body[client.Site], error) {
			b := in.Body
			r := builds.BuildRequest{
				Site: in.Site, Name: b.Name, Image: b.Image, Version: b.Version,
				BaseDisk: b.BaseDisk, MachineClass: b.MachineClass,
			}
			if err := s.Builds.Create(ctx, actor(ctx), r); err != nil {
				return nil, err
			}
			return shown(ctx, in.Site)
		})
	addAct := func(method, path, verb, summary string, act func(ctx context.Context, actor, site, name string) error) {
		register(s, operation{
			method: method, path: path, id: verb + "-build-machine", summary: summary,
			role: role.Operator, tag: "build machines",
		},
			func(ctx context.Context, in *MachinePath) (*body[client.Site], error) {
				if err := act(ctx, actor(ctx), in.Site, in.Machine); err != nil {
					return nil, err
				}
				return shown(ctx, in.Site)
			})
	}
	addAct("POST", at+"/{machine}/start", "start", "Start a build machine", s.Builds.Start)
	addAct("POST", at+"/{machine}/stop", "stop", "Shut a build machine down, and wait until it is off", s.Builds.Stop)
	addAct("DELETE", at+"/{machine}", "discard", "Delete a build machine with what was done on it", s.Builds.Discard)
	register(s, operation{
		method: "POST", path: at + "/{machine}/run", id: "run-on-build-machine",
		summary: "Run a program in a build machine and wait for its end", role: role.Operator, tag: "build machines",
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Body client.RunProgram
		},
		) (*body[client.ProgramEnded], error) {
			seconds := in.Body.Seconds
			if seconds == 0 {
				seconds = 300
			}
			ctx, cancel := context.WithTimeout(ctx, time.Duration(seconds)*time.Second)
			defer cancel()
			o, err := s.Builds.Run(ctx, actor(ctx), in.Site, in.Machine,
				platform.Command{Path: in.Body.Path, Args: in.Body.Args, Env: in.Body.Env, Input: in.Body.Input})
			return ok(client.ProgramEnded{ExitCode: o.ExitCode, Output: o.Output, Errors: o.Errors}, err)
		})
	register(s, operation{
		method: "PUT", path: at + "/{machine}/file", id: "put-on-build-machine",
		summary: "Write a file in a build machine", role: role.Operator, tag: "build machines", limit: fileLimit,
	},
		func(ctx context.Context, in *struct {
			FilePath
			RawBody []byte `contentType:"application/octet-stream"`
		},
		) (*struct{}, error) {
			return nil, s.Builds.Put(ctx, actor(ctx), in.Site, in.Machine, in.Path, bytes.NewReader(in.RawBody))
		})
	register(s, operation{
		method: "GET", path: at + "/{machine}/file", id: "get-from-build-machine",
		summary: "Read a file of a build machine", role: role.Operator, tag: "build machines",
	},
		func(ctx context.Context, in *FilePath) (*fileOut, error) {
			var content bytes.Buffer
			err := s.Builds.Get(ctx, actor(ctx), in.Site, in.Machine, in.Path, &content)
			return &fileOut{"application/octet-stream", content.Bytes()}, err
		})
}
