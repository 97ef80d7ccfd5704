package api

import (
	"bytes"
	"context"
	"encoding/base64"
	"errors"
	"slices"
	"strconv"
	"time"
	"unicode/utf8"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/host"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/engine/fleet"
	"nimblepane/engine/rollovers"
	"nimblepane/platform"
	"nimblepane/store"
)

type PoolPath struct {
	Pool string `path:"pool"`
}

type HostPath struct {
	Host string `path:"host"`
}

// cursor hides what a page continues from, so that nobody builds on its form.
func cursor(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }

func uncursor(s string) (string, error) {
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err != nil || !utf8.Valid(b) || bytes.ContainsRune(b, 0) {
		return "", errCursor
	}
	return string(b), nil
}

// before is the number that a page continues from, of lists whose newest come first; 0 for the first page.
func before(cursor string) (int64, error) {
	number, err := uncursor(cursor)
	if err != nil || number == "" {
		return 0, err
	}
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return 0, errCursor
	}
	return n, nil
}

var errCursor = &problem.Problem{
	Type:   problem.InvalidRequest,
	Detail: "the cursor is not valid: use next of the previous page",
}

func (s *Server) fleet() {
	register(s, operation{
		method: "GET", path: "/pools", id: "list-pools", summary: "All pools", role: role.Viewer,
		tag: "pools",
	},
		func(ctx context.Context, _ *empty) (*body[client.Page[client.Pool]], error) {
			list, err := s.poolsOut(ctx, "")
			return ok(client.Page[client.Pool]{Items: list}, err)
		})
	register(s, operation{
		method: "GET", path: "/pools/{pool}", id: "show-pool", summary: "One pool", role: role.Viewer,
		tag: "pools",
	}, s.showPool)
	register(s, operation{
		method: "POST", path: "/pools/{pool}/pin", on: onPool, id: "pin",
		summary: "Make a pool run one version, whatever its track names", role: role.Operator, tag: "pools",
	},
		func(ctx context.Context, in *struct {
			PoolPath
			Body client.Pin
		},
		) (*body[client.Pool], error) {
			mine := whoever(ctx).Role
			if in.Body.Overrule && mine != role.Administrator {
				return nil, problem.Forbidden.Errorf("overriding clearance needs the role administrator")
			}
			how := fleet.Pinning{Reason: in.Body.Reason, Approved: mine.Has(role.Approver), Overrule: in.Body.Overrule}
			if err := s.Fleet.Pin(ctx, actor(ctx), in.Pool, in.Body.Version, how); err != nil {
				return nil, err
			}
			return s.showPool(ctx, &in.PoolPath)
		})
	register(s, operation{
		method: "POST", path: "/pools/{pool}/unpin", on: onPool, id: "unpin",
		summary: "Make a pool follow its track again", role: role.Operator, tag: "pools",
	},
		func(ctx context.Context, in *struct {
			PoolPath
			Body client.Reason
		},
		) (*body[client.Pool], error) {
			if err := s.Fleet.Unpin(ctx, actor(ctx), in.Pool, in.Body.Reason); err != nil {
				return nil, err
			}
			return s.showPool(ctx, &in.PoolPath)
		})
	register(s, operation{
		method: "POST", path: "/pools/{pool}/tell", on: onPool, id: "tell-pool", dry: true,
		summary: "Show a text to everybody in a pool", role: role.Operator, tag: "sessions",
	},
		func(ctx context.Context, in *struct {
			PoolPath
			Body client.Tell
		},
		) (*body[client.Told], error) {
			if _, err := store.PoolNamed(s.store.DB.WithContext(ctx), in.Pool); err != nil {
				return nil, err
			}
			n, err := s.Fleet.Tell(ctx, actor(ctx), store.SessionFilter{Pool: in.Pool}, "", in.Body.Text)
			return ok(client.Told{Sessions: n}, err)
		})

	register(s, operation{
		method: "GET", path: "/hosts", id: "list-hosts", summary: "Hosts by name", role: role.Viewer,
		tag: "hosts",
	},
		func(ctx context.Context, in *struct {
			Paging
			Pool    string     `query:"pool"`
			Site    string     `query:"site"`
			Image   string     `query:"image"`
			State   host.State `query:"state"`
			Version string     `query:"version"`
			Drifts  bool       `query:"drifts" doc:"Only hosts that run another version than they should"`
			Find    string     `query:"find" maxLength:"60" doc:"Only hosts with this in their name"`
		},
		) (*body[client.Page[client.Host]], error) {
			after, err := uncursor(in.Cursor)
			if err != nil {
				return nil, err
			}
			rows, err := store.HostRows(s.store.DB.WithContext(ctx), store.HostFilter{
				Pool: in.Pool, Site: in.Site, Image: in.Image, State: in.State, Version: in.Version, Drifts: in.Drifts,
				Find: in.Find, After: after, Limit: in.Limit + 1,
			})
			if err != nil {
				return nil, err
			}
			list, err := s.hostsOut(ctx, rows)
			return ok(page(list, in.Limit, func(h client.Host) string { return cursor(h.Name) }), err)
		})
	register(s, operation{
		method: "GET", path: "/hosts/{host}", id: "show-host", summary: "One host", role: role.Viewer,
		tag: "hosts",
	}, s.showHost)
	addAct := func(verb, summary string, act func(context.Context, string, string) error) {
		register(s, operation{
			method: "POST", path: "/hosts/{host}/" + verb, on: onHost, id: verb + "-host",
			summary: summary, role: role.Operator, tag: "hosts",
		},
			func(ctx context.Context, in *struct {
				HostPath
				Body client.Reason
			},
			) (*body[client.Host], error) {
				if err := act(ctx, in.Host, in.Body.Reason); err != nil {
					return nil, err
				}
				return s.showHost(ctx, &in.HostPath)
			})
	}
	addAct("drain", "Give a host no new sessions; those there go on",
		func(ctx context.Context, host, reason string) error {
			return s.Fleet.Drain(ctx, actor(ctx), host, reason)
		})
	addAct("return", "Put a drained or faulty host back to service",
		func(ctx context.Context, host, reason string) error {
			return s.Fleet.Return(ctx, actor(ctx), host, reason)
		})
	register(s, operation{
		method: "POST", path: "/hosts/{host}/rebuild", on: onHost, id: "rebuild-host", dry: true,
		summary: "Give a host a new disk, by a rollover of this one host", role: role.Operator, tag: "hosts",
		status: 202,
	},
		func(ctx context.Context, in *struct {
			HostPath
			Body client.RebuildHost
		},
		) (*body[client.Rollover], error) {
			r, err := s.Rollovers.Rebuild(ctx, actor(ctx),
				rollovers.RebuildRequest{Host: in.Host, Reason: in.Body.Reason, Vouched: in.Body.VouchEmpty})
			if err != nil {
				return nil, err
			}
			return ok(s.rolloverOut(ctx, r.ID))
		})

	register(s, operation{
		method: "GET", path: "/sessions", id: "list-sessions", summary: "Sessions by host",
		role: role.Viewer, tag: "sessions",
	},
		func(ctx context.Context, in *struct {
			Paging
			Pool      string             `query:"pool"`
			Host      string             `query:"host"`
			Person    string             `query:"person"`
			State     agent.SessionState `query:"state"`
			HostState host.State         `query:"host_state" doc:"Only sessions on hosts in this state"`
			Find      string             `query:"find" maxLength:"60" doc:"Only sessions with this in the name of their person or host"`
		},
		) (*body[client.Page[client.Session]], error) {
			after, err := uncursor(in.Cursor)
			if err != nil {
				return nil, err
			}
			rows, err := store.SessionRows(s.store.DB.WithContext(ctx),
				store.SessionFilter{
					Pool: in.Pool, Host: in.Host, Person: in.Person, State: in.State,
					HostState: in.HostState, Find: in.Find, After: after, Limit: in.Limit + 1,
				})
			items := each(rows, func(r store.SessionRow) client.Session {
				return client.Session{
					Key: r.Key, Host: r.Host, HostState: r.HostState, Pool: r.Pool, Site: r.Site,
					Person: r.Person, State: r.State, Since: r.Since,
				}
			})
			return ok(page(items, in.Limit, func(x client.Session) string { return cursor(x.Host + "/" + x.Key) }), err)
		})
	register(s, operation{
		method: "POST", path: "/hosts/{host}/sessions/{key}/tell", on: onHost, id: "tell-session", dry: true,
		summary: "Show a text to one person", role: role.Operator, tag: "sessions",
	},
		func(ctx context.Context, in *struct {
			HostPath
			Key  string `path:"key"`
			Body client.Tell
		},
		) (*body[client.Told], error) {
			n, err := s.Fleet.Tell(ctx, actor(ctx), store.SessionFilter{Host: in.Host}, in.Key, in.Body.Text)
			return ok(client.Told{Sessions: n}, err)
		})
	register(s, operation{
		method: "POST", path: "/hosts/{host}/sessions/{key}/sign-off", on: onHost,
		id: "sign-off-session", dry: true, summary: "End one session", role: role.Operator, tag: "sessions",
		status: 202,
	},
		func(ctx context.Context, in *struct {
			HostPath
			Key  string `path:"key"`
			Body client.Reason
		},
		) (*body[client.Told], error) {
			err := s.Fleet.SignOffSession(ctx, actor(ctx), in.Host, in.Key, in.Body.Reason)
			return ok(client.Told{Sessions: 1}, err)
		})
}

func (s *Server) showHost(ctx context.Context, in *HostPath) (*body[client.Host], error) {
	row, err := store.HostRowNamed(s.store.DB.WithContext(ctx), in.Host)
	if err != nil {
		return nil, err
	}
	list, err := s.hostsOut(ctx, []store.HostRow{row})
	if err != nil {
		return nil, err
	}
	out := list[0]
	asking, cancel := context.WithTimeout(ctx, machineLimit)
	defer cancel()
	m, err := s.Fleet.Machine(asking, store.Host{Name: row.Name, PoolID: row.PoolID})
	switch {
	case err == nil:
		seen := client.Machine(m)
		out.Machine = &seen
	case !errors.Is(err, platform.ErrUnknown):
		// The host is shown all the same; its machine is what cannot be seen.
		out.Machine = &client.Machine{Name: row.Name, Why: err.Error(), Disks: []string{}}
	}
	return ok(out, nil)
}

// machineLimit is how long a host's page waits for what the platform says.
const machineLimit = 5 * time.Second

func (s *Server) hostsOut(ctx context.Context, rows []store.HostRow) ([]client.Host, error) {
	drifting := slices.DeleteFunc(slices.Clone(rows), func(r store.HostRow) bool { return !r.Drifts })
	reasons, err := store.DriftReasons(s.store.DB.WithContext(ctx), drifting)
	return each(rows, func(r store.HostRow) client.Host {
		h := hostOut(r)
		if d, is := reasons[r.ID]; is {
			h.DriftReason = d.Reason()
			if !d.TargetSince.IsZero() {
				h.TargetSince = &d.TargetSince
			}
		}
		return h
	}), err
}

func hostOut(r store.HostRow) client.Host {
	return client.Host{
		Name: r.Name, Pool: r.Pool, Site: r.Site, Image: r.Image, State: r.State, Since: r.Since, Why: r.Why,
		DrainedBy: r.DrainedBy,
		Version:   r.Version, Target: r.Target, Drifts: r.Drifts, Seats: r.Seats, Sessions: r.Sessions,
		SeenAt: r.SeenAt,
		Load:   r.Load,
		Stamp:  r.Stamp, Checks: r.Checks, ChecksWhy: r.ChecksWhy,
	}
}

func (s *Server) showPool(ctx context.Context, in *PoolPath) (*body[client.Pool], error) {
	if _, err := store.PoolNamed(s.store.DB.WithContext(ctx), in.Pool); err != nil {
		return nil, err
	}
	list, err := s.poolsOut(ctx, in.Pool)
	if err != nil {
		return nil, err
	}
	return ok(list[0], nil)
}

// poolsOut shows the pools by name, or the one of the name.
func (s *Server) poolsOut(ctx context.Context, name string) ([]client.Pool, error) {
	db := s.store.DB.WithContext(ctx)
	counts, err := store.HostCounts(db, name)
	if err != nil {
		return nil, err
	}
	rows, err := store.PoolRows(db, name)
	return each(rows, func(r store.PoolRow) client.Pool {
		p := client.Pool{
			Name: r.Name, Title: r.Title, Site: r.Site, Image: r.Image, Track: r.Track, Pinned: r.Pinned,
			PinnedWhy: r.PinnedWhy,
			Target:    r.Target, MachineClass: r.MachineClass, HostPrefix: r.HostPrefix, Hosts: r.Hosts,
			SeatsPerHost: r.SeatsPerHost,
			Rollover:     r.Rollover, Revision: r.Revision, States: map[host.State]int{}, Versions: map[string]int{},
		}
		for _, c := range counts {
			if c.Pool != r.Name {
				continue
			}
			p.States[c.State] += c.Hosts
			p.Versions[c.Version] += c.Hosts
			p.Sessions += c.Sessions
			p.Drifting += c.Drifting
			if c.State == host.Serving {
				p.InService += c.Seats
				p.Free += c.Seats - c.Taken
			}
		}
		return p
	}), err
}
