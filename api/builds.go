package api

import (
	"bytes"
	"context"
	"time"

	"nimblepane/client"
	"nimblepane/core/role"
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

// fileLimit is how large a file of a build machine may be, in bytes.
const fileLimit = 64 << 20

func (s *Server) builds() {
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
