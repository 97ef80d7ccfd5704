package api

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/estate"
	"nimblepane/core/machine"
	"nimblepane/core/role"
	"nimblepane/core/seal"
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

type SheetFilePath struct {
	Digest string `path:"digest" pattern:"^[0-9a-f]{64}$" doc:"SHA-256 of the file, in hexadecimal digits"`
	Folder bool   `query:"folder" doc:"It is the tar archive of a folder"`
}

type BuildPath struct {
	ID int64 `path:"id" minimum:"1"`
}

// fileLimit is how large a file of a build machine may be, in bytes.
const fileLimit = 64 << 20

func (s *Server) builds() {
	s.buildMachines()
	s.bases()
	s.feeds()
	s.schedules()
	s.buildLogs()
	s.sheetFiles()
	s.sheets()
	s.repositories()
	register(s, operation{
		method: "GET", path: "/ready-steps", id: "list-ready-steps", role: role.Viewer, tag: "builds",
		summary: "The ready steps that build sheets may use: those that ship with the product, and the organisation's",
	},
		func(context.Context, *struct{}) (*body[client.Page[client.ReadyStep]], error) {
			own, err := s.engine.Library()
			if err != nil {
				return nil, err
			}
			all := sheet.Shipped().And(own)
			return ok(client.Page[client.ReadyStep]{Items: each(all.Names(), func(name string) client.ReadyStep {
				_, is := own[name]
				return client.ReadyStep{Name: name, About: all[name].About, Own: is, Text: all[name].Text}
			})}, nil)
		})
	register(s, operation{
		method: "GET", path: "/images/{image}/build-sizes", id: "list-build-sizes", role: role.Viewer, tag: "builds",
		summary: "What the last builds of an image took, cost and used, by the size of their machines",
	},
		func(ctx context.Context, in *ImagePath) (*body[client.Page[client.BuildSize]], error) {
			db := s.store.DB.WithContext(ctx)
			img, err := store.ImageNamed(db, in.Image)
			if err != nil {
				return nil, err
			}
			workshop, err := store.Workshop(db)
			if err != nil {
				return nil, err
			}
			sizes, err := builds.Sizes(db, img.ID)
			return ok(client.Page[client.BuildSize]{Items: each(sizes, func(a build.Advice) client.BuildSize {
				return sizeOut(a, workshop)
			})}, err)
		})
	s.buildActs()
	register(s, operation{
		method: "POST", path: "/builds", on: onSheet, id: "start-build", made: "/builds/{id}",
		summary: "Begin a build of a sheet",
		role:    role.Operator, tag: "builds", status: 202, limit: sheetLimit,
	},
		func(ctx context.Context, in *struct{ Body client.StartBuild }) (*body[client.WholeBuild], error) {
			b, err := s.Builds.StartBuild(ctx, actor(ctx),
				builds.Order{
					Text: in.Body.Sheet, Values: in.Body.Values, Files: in.Body.Files,
					Commit: in.Body.Commit, Commits: in.Body.Commits,
				},
				time.Duration(in.Body.HoldSeconds)*time.Second, reaching(ctx))
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
			from, err := before(in.Cursor)
			if err != nil {
				return nil, err
			}
			f := store.BuildFilter{Image: in.Image, State: in.State, Before: from, Limit: in.Limit + 1}
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
		method: "POST", path: "/builds/{id}/cancel", on: onBuild, id: "cancel-build", dry: true,
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

func sizeOut(a build.Advice, w estate.Workshop) client.BuildSize {
	out := client.BuildSize{
		MachineClass: a.Class, Cores: a.Size.Cores, MemoryBytes: a.Size.Memory, Builds: a.Builds,
		TookSeconds: int64(a.Took / time.Second), Cost: w.Rates[a.Class].Cost(a.Ran), UsedCores: a.Cores,
		HasCores: a.HasCores, UsedMemory: a.Memory, HasMemory: a.HasMemory, Advice: append([]string{}, a.Says...),
	}
	if out.Cost != "" {
		out.Currency = w.Currency
	}
	return out
}

// LogQuery selects lines of a build's log.
type LogQuery struct {
	BuildPath
	From int64  `query:"from" minimum:"0" doc:"Number of the line to begin with"`
	Find string `query:"find" maxLength:"200" doc:"Only lines that have this text, in capitals or not"`
	Step int    `query:"step" minimum:"0" doc:"Only lines of this step, counted from 1"`
}

// each calls fn with the lines that are selected, until it returns false.
func (q LogQuery) each(db *gorm.DB, fn func(store.LogLine) bool) error {
	find := strings.ToLower(q.Find)
	return store.EachLogLine(db, q.ID, q.From, func(l store.LogLine) bool {
		if q.Step > 0 && l.Step != q.Step-1 || find != "" && !strings.Contains(strings.ToLower(l.Text), find) {
			return true
		}
		return fn(l)
	})
}

// pieceLimit is how large a piece of a file may be that sheets name, in bytes.
const pieceLimit = 8 << 20

// sheetFiles are the files that sheets name. They are sent before the sheets, and by themselves change nothing.
func (s *Server) sheetFiles() {
	register(s, operation{
		method: "PUT", path: "/sheet-files/{digest}", on: onNothing, id: "send-sheet-file", role: role.Operator,
		summary: "Say that a file is sent which sheets name, and learn how much of it is there", tag: "builds",
	},
		func(ctx context.Context, in *struct {
			SheetFilePath
			Body client.NewSheetFile
		},
		) (*body[client.SheetFile], error) {
			f, err := s.Builds.SendFile(ctx, actor(ctx), in.Digest, in.Body.Size, in.Folder)
			return ok(client.SheetFile{Digest: f.Digest, Size: f.Size, Have: f.Have, Whole: f.Whole}, err)
		})
	register(s, operation{
		method: "PUT", path: "/sheet-files/{digest}/piece", on: onNothing, id: "send-piece-of-sheet-file",
		summary: "Send what comes next of a file that sheets name", role: role.Operator, tag: "builds",
		limit: pieceLimit,
	},
		func(ctx context.Context, in *struct {
			SheetFilePath
			From    int64  `query:"from" required:"true" minimum:"0" doc:"Byte of the file that the piece begins with"`
			RawBody []byte `contentType:"application/octet-stream"`
		},
		) (*body[client.SheetFile], error) {
			f, err := s.Builds.SendPiece(ctx, actor(ctx), in.Digest, in.From, in.RawBody, in.Folder)
			return ok(client.SheetFile{Digest: f.Digest, Size: f.Size, Have: f.Have, Whole: f.Whole}, err)
		})
}

// buildActs are what is done with a build whose machine is held.
func (s *Server) buildActs() {
	register(s, operation{
		method: "POST", path: "/builds/{id}/hold", on: onBuild, id: "hold-build",
		summary: "Hold the machine of a build that has failed, or for the time after it fails", role: role.Operator,
		tag: "builds",
	},
		func(ctx context.Context, in *struct {
			BuildPath
			Body client.HoldBuild
		},
		) (*body[client.WholeBuild], error) {
			hold := time.Duration(in.Body.Seconds) * time.Second
			if err := s.Builds.Hold(ctx, actor(ctx), in.ID, hold); err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, in.ID))
		})
	register(s, operation{
		method: "POST", path: "/builds/{id}/discard", on: onBuild, id: "discard-build", dry: true,
		summary: "Discard the machine that a build holds", role: role.Operator, tag: "builds",
	},
		func(ctx context.Context, in *BuildPath) (*body[client.WholeBuild], error) {
			if err := s.Builds.Release(ctx, actor(ctx), in.ID); err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, in.ID))
		})
	register(s, operation{
		method: "POST", path: "/builds/{id}/go-on", on: onBuild, id: "go-on-with-build",
		summary: "Go on with a build from the step that failed, after its machine or its sheet was mended",
		role:    role.Operator, tag: "builds", limit: sheetLimit,
	},
		func(ctx context.Context, in *struct {
			BuildPath
			Body client.GoOn
		},
		) (*body[client.WholeBuild], error) {
			if err := s.Builds.GoOn(ctx, actor(ctx), in.ID,
				builds.Order{
					Text: in.Body.Sheet, Values: in.Body.Values, Files: in.Body.Files,
					Commit: in.Body.Commit, Commits: in.Body.Commits,
				}); err != nil {
				return nil, err
			}
			return ok(s.wholeBuild(ctx, in.ID))
		})
}

func (s *Server) buildLogs() {
	register(s, operation{
		method: "GET", path: "/builds/{id}/log", id: "show-build-log",
		summary: "What the steps of a build have written so far, line by line", role: role.Viewer, tag: "builds",
	},
		func(ctx context.Context, in *struct {
			LogQuery
			Limit int `query:"limit" minimum:"1" maximum:"5000" default:"1000"`
		},
		) (*body[client.BuildLog], error) {
			db := s.store.DB.WithContext(ctx)
			b, err := store.BuildByID(db, in.ID)
			if err != nil {
				return nil, err
			}
			log := client.BuildLog{Lines: []client.LogLine{}, Complete: b.State.Ended()}
			if log.Total, err = store.LogLength(db, in.ID); err != nil {
				return nil, err
			}
			if log.Gone, err = s.logGone(db, b); err != nil {
				return nil, err
			}
			log.Next = max(in.From, log.Total)
			err = in.each(db, func(l store.LogLine) bool {
				log.Next = max(log.Next, l.Number+1)
				log.Lines = append(log.Lines, client.LogLine{
					Number: l.Number, At: l.At, Step: l.Step + 1, Attempt: l.Attempt, Text: l.Text,
				})
				if len(log.Lines) < in.Limit {
					return true
				}
				log.Next = l.Number + 1
				return false
			})
			return ok(log, err)
		})
	register(s, operation{
		method: "GET", path: "/builds/{id}/log.txt", id: "export-build-log", media: "text/plain",
		summary: "What the steps of a build have written so far, as a text", role: role.Viewer, tag: "builds",
	},
		func(ctx context.Context, in *LogQuery) (*huma.StreamResponse, error) {
			b, err := store.BuildByID(s.store.DB.WithContext(ctx), in.ID)
			if err != nil {
				return nil, err
			}
			return &huma.StreamResponse{Body: func(c huma.Context) {
				c.SetHeader("Content-Type", "text/plain; charset=utf-8")
				c.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="build-%d.txt"`, b.ID))
				out := bufio.NewWriter(c.BodyWriter())
				err := in.each(s.store.DB.WithContext(c.Context()), func(l store.LogLine) bool {
					_, err := fmt.Fprintf(out, "%s %d %s\n", l.At.Format(time.RFC3339), l.Step+1, l.Text)
					return err == nil // else whoever asked has gone away
				})
				if err := errors.Join(err, out.Flush()); err != nil {
					s.log.Error("the export of a build's log broke off", "build", b.ID, "err", err)
				}
			}}, nil
		})
}

// logGone says why a build's log is kept no longer, "" if it is.
func (s *Server) logGone(db *gorm.DB, b store.Build) (string, error) {
	img, err := store.ImageByID(db, b.ImageID)
	if err != nil || b.EndedAt == nil {
		return "", err
	}
	kept := b.EndedAt.Add(time.Duration(img.LogSeconds) * time.Second)
	if !b.Settled || !kept.Before(s.engine.Clock.Now()) {
		return "", nil
	}
	return fmt.Sprintf("the logs of %s are kept for %s, and this one went on %s", img.Name, span(img.LogSeconds),
		kept.UTC().Format(time.DateOnly)), nil
}

func buildOut(r store.BuildRow) client.Build {
	return client.Build{
		ID: r.ID, Image: r.Image, Site: r.Site, Base: r.Base, Version: r.Version, State: r.State, Settled: r.Settled,
		Machine: r.Machine(), StartedBy: r.StartedBy, Schedule: r.Schedule,
		StartedAt: r.StartedAt, EndedAt: r.EndedAt, Why: r.Why,
		Cancel: r.Cancel, Done: r.Done, Total: r.Plan.V.OnMachine(), HoldSeconds: r.HoldSeconds, HeldUntil: r.HeldUntil,
		WentOnAt: r.WentOnAt, SheetName: r.SheetName, Commit: r.Commit, Rolled: r.Rolled,
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
		Build: buildOut(r), Sheet: r.Sheet, Values: r.Plan.V.Values, Steps: []client.BuildStep{},
		Findings: []client.SealFinding{},
	}
	expected, err := builds.Expect(db, r.Build)
	if err != nil {
		return w, err
	}
	w.Expected = expectedOut(r.Build, expected)
	for i, step := range builds.StepsOf(r.Build, works) {
		planned := r.Plan.V.Steps[i]
		out := client.BuildStep{
			Name: planned.Name, Kind: planned.Kinds()[0], State: build.StepStateOf(planned, step.Task, r.State),
			Attempts: step.Attempts, ExitCode: step.Done.ExitCode, Output: step.Done.Output, Why: step.Why,
			Last: int64(expected.Steps[planned.Name] / time.Second),
		}
		if out.State == build.StepSkipped {
			out.Why = planned.LeftOut()
		} else if out.State == build.StepLater {
			out.Why = "a proof: it is run on the machine that proves the first start"
		}
		if !step.BeganAt.IsZero() {
			out.BeganAt = &step.BeganAt
		}
		if !step.EndedAt.IsZero() {
			out.EndedAt = &step.EndedAt
		}
		w.Steps = append(w.Steps, out)
	}
	found, made := builds.Findings(r.Build, works)
	w.Checked = made
	w.Findings = append(w.Findings, each(found, findingOut)...)
	return w, nil
}

func findingOut(f seal.Finding) client.SealFinding {
	out := client.SealFinding{
		Check: f.Check, Severity: f.Severity, Evidence: f.Evidence, Remedy: f.Remedy, Waived: f.Waived,
	}
	if f.Repair != nil {
		out.Repair = f.Repair.String()
	}
	return out
}

func expectedOut(b store.Build, e builds.Expected) *client.BuildExpectation {
	if e.Builds == 0 {
		return nil
	}
	out := client.BuildExpectation{
		Builds: e.Builds, MedianSeconds: int64(e.Median / time.Second), WorstSeconds: int64(e.Worst / time.Second),
	}
	if !b.State.Ended() {
		at, by := b.StartedAt.Add(e.Median), b.StartedAt.Add(e.Worst)
		out.ReadyAt, out.ReadyBy = &at, &by
	}
	if limit := time.Duration(b.Plan.V.TimeLimit); e.Tight(limit) {
		out.Tight = fmt.Sprintf("its time limit is %s, and an earlier build took %s until it was sealed",
			b.Plan.V.TimeLimit, e.Sealed.Round(time.Second))
	}
	return &out
}

func (s *Server) buildMachines() {
	const at = "/sites/{site}/build-machines"
	register(s, operation{
		method: "GET", path: "/build-machines", id: "list-build-machines", role: role.Viewer, tag: "build machines",
		summary: "Build machines with what they have cost, those that were asked for last first",
	},
		func(ctx context.Context, in *struct {
			Paging
			Site  string `query:"site"`
			Owner string `query:"owner"`
			Gone  bool   `query:"gone" doc:"Also those that are gone"`
		},
		) (*body[client.Page[client.BuildMachine]], error) {
			from, err := before(in.Cursor)
			if err != nil {
				return nil, err
			}
			f := store.MachineFilter{
				Site: in.Site, Owner: in.Owner, Gone: in.Gone, Before: from, Limit: in.Limit + 1,
			}
			list, err := s.machinesOut(ctx, f)
			return ok(page(list, in.Limit, func(m client.BuildMachine) string { return cursor(itoa(m.ID)) }), err)
		})
	register(s, operation{
		method: "GET", path: at + "/{machine}", id: "show-build-machine", role: role.Viewer, tag: "build machines",
		summary: "The build machine that has the name, or had it last",
	},
		func(ctx context.Context, in *MachinePath) (*body[client.BuildMachine], error) {
			return ok(s.machineOut(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "POST", path: at, id: "create-build-machine", dry: true, made: "/sites/{site}/build-machines/{name}",
		summary: "Begin to make a build machine from a version, a base disk or a host, and to start it",
		role:    role.Operator, tag: "build machines", status: 201,
	},
		func(ctx context.Context, in *struct {
			Site string `path:"site"`
			Body client.NewBuildMachine
		},
		) (*body[client.BuildMachine], error) {
			b := in.Body
			r := builds.MachineRequest{
				Site: in.Site, Name: b.Name, Image: b.Image, Version: b.Version,
				BaseDisk: b.BaseDisk, Base: b.Base, Host: b.Host, MachineClass: b.MachineClass, Purpose: b.Purpose,
				Cores: b.Cores, Memory: b.MemoryBytes, Disk: b.DiskBytes,
			}
			if _, err := s.Builds.CreateMachine(ctx, actor(ctx), r); err != nil {
				return nil, err
			}
			return ok(s.machineOut(ctx, in.Site, b.Name))
		})
	addAct := func(method, path, verb, summary string,
		act func(ctx context.Context, actor, site, name string) (store.Machine, error),
	) {
		register(s, operation{
			method: method, path: path, id: verb + "-build-machine", dry: true, summary: summary,
			role: role.Operator, tag: "build machines",
		},
			func(ctx context.Context, in *MachinePath) (*body[client.BuildMachine], error) {
				if _, err := act(ctx, actor(ctx), in.Site, in.Machine); err != nil {
					return nil, err
				}
				return ok(s.machineOut(ctx, in.Site, in.Machine))
			})
	}
	addAct("POST", at+"/{machine}/start", "start", "Begin to start a build machine", s.Builds.StartMachine)
	addAct("POST", at+"/{machine}/stop", "stop", "Begin to shut a build machine down", s.Builds.StopMachine)
	addAct("POST", at+"/{machine}/keep", "keep", "Say that a build machine is needed: it is not discarded as one that "+
		"was left", s.Builds.KeepMachine)
	addAct("DELETE", at+"/{machine}", "discard", "Begin to delete a build machine with what was done on it",
		s.Builds.DiscardMachine)
	addCheckpoint := func(path, verb, summary string,
		act func(ctx context.Context, actor, site, name, checkpoint string) (store.Machine, error),
	) {
		register(s, operation{
			method: "POST", path: at + "/{machine}/" + path, id: verb + "-build-machine", dry: true, summary: summary,
			role: role.Operator, tag: "build machines",
		},
			func(ctx context.Context, in *struct {
				MachinePath
				Body client.NamedCheckpoint
			},
			) (*body[client.BuildMachine], error) {
				if _, err := act(ctx, actor(ctx), in.Site, in.Machine, in.Body.Checkpoint); err != nil {
					return nil, err
				}
				return ok(s.machineOut(ctx, in.Site, in.Machine))
			})
	}
	addCheckpoint("checkpoint", "checkpoint", "Begin to make a checkpoint of a build machine, which goes down for it "+
		"and comes up again if it ran", s.Builds.CheckpointMachine)
	addCheckpoint("back", "revert", "Begin to have a build machine go back to a checkpoint; what was done on it since "+
		"is lost", s.Builds.RevertMachine)
	s.machineChecks(at + "/{machine}")
	s.machineHands(at + "/{machine}")
	s.machineOpenings(at + "/{machine}")
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
		method: "GET", path: at + "/{machine}/file", id: "get-from-build-machine", media: "application/octet-stream",
		summary: "Read a file of a build machine", role: role.Operator, tag: "build machines",
	},
		func(ctx context.Context, in *FilePath) (*fileOut, error) {
			var content bytes.Buffer
			err := s.Builds.Get(ctx, actor(ctx), in.Site, in.Machine, in.Path, &content)
			return &fileOut{"application/octet-stream", content.Bytes()}, err
		})
}

// machineChecks are the seal checks on machines, by hand.
func (s *Server) machineChecks(at string) {
	register(s, operation{
		method: "POST", path: at + "/check", id: "check-build-machine", status: 202,
		summary: "Begin to make the seal checks on a build machine that runs", role: role.Operator,
		tag: "build machines",
	},
		func(ctx context.Context, in *MachinePath) (*body[client.MachineCheck], error) {
			if _, err := s.Builds.CheckMachine(ctx, actor(ctx), in.Site, in.Machine); err != nil {
				return nil, err
			}
			return ok(s.machineCheck(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "GET", path: at + "/check", id: "show-check-of-build-machine", role: role.Viewer,
		summary: "What the seal checks found that were made last on a build machine", tag: "build machines",
	},
		func(ctx context.Context, in *MachinePath) (*body[client.MachineCheck], error) {
			return ok(s.machineCheck(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "POST", path: at + "/repair", id: "repair-build-machine", dry: true, status: 202,
		summary: "Begin to repair what a seal check found on a build machine, by what the finding says will be done",
		role:    role.Operator, tag: "build machines",
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Body client.RepairFinding
		},
		) (*body[client.BuildMachine], error) {
			if _, err := s.Builds.RepairMachine(ctx, actor(ctx), in.Site, in.Machine, in.Body.Check); err != nil {
				return nil, err
			}
			return ok(s.machineOut(ctx, in.Site, in.Machine))
		})
}

// machineOpenings are applications that are opened on a machine.
func (s *Server) machineOpenings(at string) {
	register(s, operation{
		method: "POST", path: at + "/openings", id: "open-on-build-machine", role: role.Operator, status: 202,
		summary: "Begin to open applications on a build machine, one after the other", tag: "build machines",
		limit: sheetLimit,
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Body client.OpenApplications
		},
		) (*body[client.MachineOpening], error) {
			o := builds.Order{Text: in.Body.Sheet, Values: in.Body.Values, Files: in.Body.Files}
			if _, err := s.Builds.OpenApplications(ctx, actor(ctx), in.Site, in.Machine, o); err != nil {
				return nil, err
			}
			return ok(s.machineOpening(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "GET", path: at + "/openings", id: "show-opening-on-build-machine", role: role.Viewer,
		summary: "What became of the applications that were opened last on a build machine", tag: "build machines",
	},
		func(ctx context.Context, in *MachinePath) (*body[client.MachineOpening], error) {
			return ok(s.machineOpening(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "GET", path: at + "/openings/picture.png", id: "picture-of-opening-on-build-machine",
		media: "image/png", role: role.Viewer,
		summary: "The picture of an application that was opened last on a build machine, as PNG",
		tag:     "build machines",
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Application string `query:"application" required:"true"`
		},
		) (*fileOut, error) {
			m, err := s.lastMachine(ctx, in.Site, in.Machine)
			if err != nil {
				return nil, err
			}
			_, tried, _, err := builds.Opened(s.store.DB.WithContext(ctx), m)
			if err != nil {
				return nil, err
			}
			return pictureOf(tried, in.Application)
		})
}

func (s *Server) machineOpening(ctx context.Context, site, name string) (o client.MachineOpening, err error) {
	o.Results = []client.ProofResult{}
	m, err := s.lastMachine(ctx, site, name)
	if err != nil {
		return o, err
	}
	w, tried, there, err := builds.Opened(s.store.DB.WithContext(ctx), m)
	if err != nil || !there {
		return o, err
	}
	o.State, o.Why, o.AskedAt = w.Task().State, w.Why, &w.AskedAt
	o.Results = append(o.Results, each(tried.Results, resultOut)...)
	return o, nil
}

// machineHands are what somebody does who prepares a version by hand.
func (s *Server) machineHands(at string) {
	register(s, operation{
		method: "POST", path: at + "/notes", id: "note-on-build-machine", role: role.Operator, tag: "build machines",
		summary: "Add a note to a build machine; the notes of its version will contain it",
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Body client.NewNote
		},
		) (*body[client.BuildMachine], error) {
			if _, err := s.Builds.Note(ctx, actor(ctx), in.Site, in.Machine, in.Body.Text); err != nil {
				return nil, err
			}
			return ok(s.machineOut(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "POST", path: at + "/tries", id: "try-step-on-build-machine", role: role.Operator, status: 202,
		summary: "Begin to do one step of a sheet on a build machine", tag: "build machines",
		limit: sheetLimit,
	},
		func(ctx context.Context, in *struct {
			MachinePath
			Body client.TryStep
		},
		) (*body[client.BuildMachine], error) {
			b := in.Body
			o := builds.Order{Text: b.Sheet, Values: b.Values, Files: b.Files}
			if _, err := s.Builds.TryStep(ctx, actor(ctx), in.Site, in.Machine, b.Step, o); err != nil {
				return nil, err
			}
			return ok(s.machineOut(ctx, in.Site, in.Machine))
		})
	register(s, operation{
		method: "GET", path: at + "/tries", id: "list-tries-on-build-machine", role: role.Viewer,
		summary: "The steps that were tried on a build machine, in order", tag: "build machines",
	},
		func(ctx context.Context, in *MachinePath) (*body[client.Page[client.MachineTry]], error) {
			m, err := s.lastMachine(ctx, in.Site, in.Machine)
			if err != nil {
				return nil, err
			}
			tries, err := builds.Tries(s.store.DB.WithContext(ctx), m)
			return ok(client.Page[client.MachineTry]{Items: each(tries, tryOut)}, err)
		})
	register(s, operation{
		method: "GET", path: at + "/sheet.yaml", id: "write-out-build-machine", media: "application/yaml",
		role:    role.Viewer,
		summary: "The sheet that does again what was tried on a build machine and went well", tag: "build machines",
	},
		func(ctx context.Context, in *MachinePath) (*fileOut, error) {
			m, err := s.lastMachine(ctx, in.Site, in.Machine)
			if err != nil {
				return nil, err
			}
			text, err := s.Builds.WrittenOut(s.store.DB.WithContext(ctx), m)
			return &fileOut{"application/yaml", []byte(text)}, err
		})
}

func tryOut(t builds.Try) client.MachineTry {
	out := client.MachineTry{
		Step: t.Step.Name, Kind: t.Step.Kinds()[0], State: build.UnderWay, Why: t.Why, ExitCode: t.Done.ExitCode,
		Output: t.Done.Output, AskedAt: t.AskedAt, EndedAt: t.EndedAt,
	}
	switch {
	case t.Open():
	case t.Why != "":
		out.State = build.TaskFailed
	default:
		out.State = build.Done
	}
	return out
}

// lastMachine returns the record of the machine that has the name at the site, or had it last.
func (s *Server) lastMachine(ctx context.Context, site, name string) (m store.Machine, err error) {
	rows, err := store.MachineRows(s.store.DB.WithContext(ctx), store.MachineFilter{
		Site: site, Name: name, Gone: true, Limit: 1,
	})
	if err == nil && len(rows) == 0 {
		err = fmt.Errorf("build machine %q at %s: %w", name, site, store.ErrNotFound)
	}
	if err != nil {
		return m, err
	}
	return rows[0].Machine, nil
}

// machineCheck returns what is known of the seal checks on the machine that has the name at the site.
func (s *Server) machineCheck(ctx context.Context, site, name string) (out client.MachineCheck, err error) {
	m, err := s.lastMachine(ctx, site, name)
	if err != nil {
		return out, err
	}
	c, err := s.Builds.Checked(s.store.DB.WithContext(ctx), m)
	if err != nil {
		return out, err
	}
	out = client.MachineCheck{
		State: c.State(), Why: c.Work.Why, Stale: c.Stale, Findings: append([]client.SealFinding{},
			each(c.Findings, findingOut)...),
	}
	if !c.Work.AskedAt.IsZero() {
		out.AskedAt = &c.Work.AskedAt
	}
	return out, nil
}

// machineOut returns the machine that has the name at the site, or had it last.
func (s *Server) machineOut(ctx context.Context, site, name string) (m client.BuildMachine, err error) {
	if _, err := store.SiteNamed(s.store.DB.WithContext(ctx), site); err != nil {
		return m, err
	}
	list, err := s.machinesOut(ctx, store.MachineFilter{Site: site, Name: name, Gone: true, Limit: 1})
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("build machine %q at %s: %w", name, site, store.ErrNotFound)
	}
	if err != nil {
		return m, err
	}
	return list[0], nil
}

// machinesOut returns machines with what they have cost, and what will become of them.
func (s *Server) machinesOut(ctx context.Context, f store.MachineFilter) ([]client.BuildMachine, error) {
	db, now := s.store.DB.WithContext(ctx), s.engine.Clock.Now()
	workshop, err := store.Workshop(db)
	if err != nil {
		return nil, err
	}
	rows, err := store.MachineRows(db, f)
	return each(rows, func(r store.MachineRow) client.BuildMachine {
		ran := r.Ran(now)
		m := client.BuildMachine{
			ID: r.ID, Site: r.Site, Name: r.Name, State: r.State, Why: r.Why, Base: r.Base,
			FromHost: r.FromHost, MachineClass: r.MachineClass, Purpose: r.Purpose, Owner: r.Owner, AskedAt: r.AskedAt,
			Cores: r.Cores, MemoryBytes: r.Memory, DiskBytes: r.Disk,
			StartedAt: r.StartedAt, RanSeconds: int64(ran / time.Second), Notices: r.Notices, GoneAt: r.GoneAt,
		}
		if r.BuildID != nil {
			m.Build = *r.BuildID
		}
		for _, n := range r.Notes.V {
			m.Notes = append(m.Notes, client.MachineNote(n))
		}
		for _, c := range r.Checkpoints.V {
			m.Checkpoints = append(m.Checkpoints, client.Checkpoint(c))
		}
		if m.Cost = workshop.Rates[r.MachineClass].Cost(ran); m.Cost != "" {
			m.Currency = workshop.Currency
		}
		if at := machine.Decide(workshop.Policy(), r.Known(), now).At; !at.IsZero() {
			m.DiscardAt = &at
		}
		return m
	}), err
}
