package api

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"nimblepane/client"
	"nimblepane/core/act"
	"nimblepane/core/estate"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/engine/rollovers"
	"nimblepane/store"
)

type RolloverPath struct {
	ID int64 `path:"id" minimum:"1"`
}

func (s *Server) rollovers() {
	register(s, operation{
		method: "POST", path: "/rollovers", on: onPools, id: "start-rollovers",
		summary: "Start a rollover of each pool whose state allows it; an unknown pool or an option that does not " +
			"fit " +
			"refuses all of them", role: role.Operator, tag: "rollovers",
		status: 202,
	},
		func(ctx context.Context, in *struct{ Body client.StartRollovers }) (*body[client.StartedRollovers],
			error,
		) {
			if err := s.reachPools(ctx, in.Body.Pools); err != nil {
				return nil, err
			}
			options, _, err := optionsIn(in.Body.Options, rollover.DefaultOptions)
			var wrong *problem.Problem
			if errors.As(err, &wrong) {
				// What can be read is checked all the same, so that all that is wrong is said at once.
				if p, perr := store.PoolNamed(s.store.DB.WithContext(ctx), in.Body.Pools[0]); perr == nil {
					if more := options.Check(rollover.Pool{
						Hosts:        p.HostCount,
						SeatsPerHost: p.SeatsPerHost,
					}); more != nil {
						wrong.Reasons = append(wrong.Reasons, strings.Split(more.Error(), "\n")...)
					}
				}
			}
			if err != nil {
				return nil, err
			}
			rows, left, err := s.Rollovers.Start(ctx, actor(ctx),
				rollovers.StartRequest{Pools: in.Body.Pools, Options: options, Reason: in.Body.Reason})
			if err != nil {
				return nil, err
			}
			out := client.StartedRollovers{
				Items: []client.Rollover{},
				Left:  each(left, func(l rollovers.Left) client.LeftPool { return client.LeftPool(l) }),
			}
			for _, r := range rows {
				one, err := s.rolloverOut(ctx, r.ID)
				if err != nil {
					return nil, err
				}
				out.Items = append(out.Items, one)
			}
			return ok(out, nil)
		})
	register(s, operation{
		method: "GET", path: "/rollovers/defaults", id: "rollover-defaults",
		summary: "The options that a rollover has if none are given", role: role.Viewer, tag: "rollovers",
	},
		func(_ context.Context, in *struct {
			Act act.Name `query:"act" enum:"roll,rollback" default:"roll" doc:"What starts the rollover"`
		},
		) (*body[client.Options], error) {
			return ok(optionsOut(defaultsOf(in.Act)), nil)
		})
	register(s, operation{
		method: "GET", path: "/rollovers", id: "list-rollovers", summary: "Rollovers, newest first",
		role: role.Viewer, tag: "rollovers",
	},
		func(ctx context.Context, in *struct {
			Paging
			Pool  string         `query:"pool"`
			State rollover.State `query:"state"`
			Open  bool           `query:"open" doc:"Only those with something in flight or to come"`
		},
		) (*body[client.Page[client.Rollover]], error) {
			from, err := before(in.Cursor)
			if err != nil {
				return nil, err
			}
			f := store.RolloverFilter{
				Pool: in.Pool, State: in.State, Open: in.Open, Before: from, Limit: in.Limit + 1,
			}
			list, err := s.rolloversOut(ctx, f)
			return ok(page(list, in.Limit, func(r client.Rollover) string { return cursor(itoa(r.ID)) }), err)
		})
	register(s, operation{
		method: "GET", path: "/rollovers/{id}", id: "show-rollover", summary: "One rollover",
		role: role.Viewer, tag: "rollovers",
	},
		func(ctx context.Context, in *RolloverPath) (*body[client.Rollover], error) {
			return ok(s.rolloverOut(ctx, in.ID))
		})
	register(s, operation{
		method: "GET", path: "/rollovers/{id}/hosts", id: "list-rollover-hosts",
		summary: "The hosts of a rollover by name", role: role.Viewer, tag: "rollovers",
	},
		func(ctx context.Context, in *RolloverPath) (*body[client.Page[client.RolloverHost]], error) {
			db := s.store.DB.WithContext(ctx)
			if _, err := store.RolloverByID(db, in.ID); err != nil {
				return nil, err
			}
			rows, err := store.MemberRows(db, in.ID)
			return ok(client.Page[client.RolloverHost]{Items: each(rows,
				func(m store.MemberRow) client.RolloverHost { return client.RolloverHost(m) })}, err)
		})
	addAct := func(verb, summary string, act func(context.Context, string, int64, string) error) {
		register(s, operation{
			method: "POST", path: "/rollovers/{id}/" + verb, on: onRollover, id: verb + "-rollover", dry: true,
			summary: summary, role: role.Operator, tag: "rollovers",
		},
			func(ctx context.Context, in *struct {
				RolloverPath
				Body client.Reason
			},
			) (*body[client.Rollover], error) {
				if err := act(ctx, actor(ctx), in.ID, in.Body.Reason); err != nil {
					return nil, err
				}
				return ok(s.rolloverOut(ctx, in.ID))
			})
	}
	addAct("pause", "Take no further host and end no session; finish the hosts whose disk is gone", s.Rollovers.Pause)
	addAct("resume", "Go on; failures so far no longer count against the budget", s.Rollovers.Resume)
	addAct("stop", "End early: put drained hosts back to service, finish those whose disk is gone", s.Rollovers.Stop)
	register(s, operation{
		method: "POST", path: "/rollovers/{id}/reverse", on: onRollover, id: "reverse-rollover", dry: true,
		made:    "/rollovers/{id}",
		summary: "Stop it, and take the hosts that it has done or has in flight back", role: role.Operator,
		tag: "rollovers", status: 202,
	},
		func(ctx context.Context, in *struct {
			RolloverPath
			Body client.Reason
		},
		) (*body[client.Rollover], error) {
			r, err := s.Rollovers.Reverse(ctx, actor(ctx), in.ID, in.Body.Reason)
			if err != nil {
				return nil, err
			}
			return ok(s.rolloverOut(ctx, r.ID))
		})
}

func (s *Server) rolloverOut(ctx context.Context, id int64) (client.Rollover, error) {
	list, err := s.rolloversOut(ctx, store.RolloverFilter{ID: id})
	if err != nil {
		return client.Rollover{}, err
	}
	if len(list) == 0 {
		_, err := store.RolloverByID(s.store.DB.WithContext(ctx), id)
		return client.Rollover{}, err
	}
	return list[0], nil
}

func (s *Server) rolloversOut(ctx context.Context, f store.RolloverFilter) ([]client.Rollover, error) {
	rows, err := store.RolloverRows(s.store.DB.WithContext(ctx), f)
	return each(rows, func(r store.RolloverRow) client.Rollover {
		o := client.Rollover{
			ID: r.ID, Pool: r.Pool, Image: r.Image, Version: r.Version, State: r.State, Settled: r.Settled,
			Options: optionsOut(r.Options.V), BatchSize: r.Plan.V.BatchSize, FloorSeats: r.Plan.V.Floor,
			Reason:    r.Reason,
			CreatedBy: r.CreatedBy, CreatedAt: r.CreatedAt, StartedAt: r.StartedAt, EndedAt: r.EndedAt,
			PausedWhy: r.PausedWhy, StoppedWhy: r.StoppedWhy,
			Holds: append([]string{}, r.Holds...), Phases: r.Phases.V, Batch: r.Batch,
		}
		if r.Reverses != nil {
			o.Reverses = *r.Reverses
		}
		for _, n := range r.Phases.V {
			o.Total += n
		}
		return o
	}), err
}

// defaultsOf returns the options of the rollovers that an act starts, where none are given.
func defaultsOf(name act.Name) rollover.Options {
	if name == act.Rollback {
		return rollover.UrgentOptions
	}
	return rollover.DefaultOptions
}

// optionsIn reads the options of a rollover and returns the names of the given options. All other options have their
// defaults.
func optionsIn(in client.Options, defaults rollover.Options) (o rollover.Options, given []string, err error) {
	o = defaults
	p := &problem.Problem{Type: problem.InvalidRequest, Detail: "the options of the rollover"}
	share := func(name, text string, into *rollover.Share) {
		if text == "" {
			return
		}
		given = append(given, name)
		v, err := rollover.ParseShare(text)
		if err != nil {
			p.Reasons = append(p.Reasons, name+": "+err.Error())
			return
		}
		*into = v
	}
	span := func(name, text string, into *time.Duration) {
		if text == "" {
			return
		}
		given = append(given, name)
		d, err := time.ParseDuration(text)
		if err != nil {
			p.Reasons = append(p.Reasons, name+": "+strconv.Quote(text)+" is not a time: write it as 15m, 2h or 90s")
			return
		}
		*into = d
	}
	share("batch", in.Batch, &o.Batch)
	share("floor", in.Floor, &o.Floor)
	span("grace", in.Grace, &o.Grace)
	span("last notice", in.LastNotice, &o.LastNotice)
	span("deadline", in.Deadline, &o.Deadline)
	span("observe", in.Observe, &o.Observe)
	if in.LogOff != "" {
		o.LogOff, given = rollover.LogOff(in.LogOff), append(given, "log-off")
	}
	if in.FirstText != "" {
		o.FirstText, given = in.FirstText, append(given, "first text")
	}
	if in.LastText != "" {
		o.LastText, given = in.LastText, append(given, "last text")
	}
	if in.FailureBudget != nil {
		o.Budget, given = *in.FailureBudget, append(given, "failure budget")
	}
	if in.EarliestStart != nil {
		o.EarliestStart, given = in.EarliestStart.UTC(), append(given, "earliest start")
	}
	if in.Stagger != 0 {
		o.Stagger, given = in.Stagger, append(given, "stagger")
	}
	if len(p.Reasons) > 0 {
		return o, nil, p
	}
	return o, given, nil
}

func optionsOut(o rollover.Options) client.Options {
	out := client.Options{
		Batch: o.Batch.String(), Floor: o.Floor.String(), LogOff: o.LogOff, Grace: estate.Span(o.Grace),
		LastNotice: estate.Span(o.LastNotice),
		FirstText:  o.FirstText, LastText: o.LastText, Deadline: estate.Span(o.Deadline), Stagger: o.Stagger,
		Observe: estate.Span(o.Observe), FailureBudget: &o.Budget,
	}
	if !o.EarliestStart.IsZero() {
		out.EarliestStart = &o.EarliestStart
	}
	return out
}
