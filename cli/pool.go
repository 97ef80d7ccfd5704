package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/dustin/go-humanize/english"
	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/host"
)

// counts writes a map as "38 serving, 2 draining", the largest first.
func counts[K ~string](m map[K]int) string {
	keys := make([]K, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Slice(keys, func(i, j int) bool {
		if m[keys[i]] != m[keys[j]] {
			return m[keys[i]] > m[keys[j]]
		}
		return keys[i] < keys[j]
	})
	var out []string
	for _, k := range keys {
		out = append(out, fmt.Sprintf("%d %s", m[k], cmp.Or(string(k), "without a version")))
	}
	return strings.Join(out, ", ")
}

func follows(p client.Pool) string {
	if p.Pinned != "" {
		return "pinned to " + p.Pinned
	}
	return p.Track + " of " + p.Image
}

// runs says which versions the hosts of a pool run, with their numbers if they run several.
func runs(p client.Pool) string {
	if len(p.Versions) == 1 {
		for version := range p.Versions {
			return cmp.Or(version, "-")
		}
	}
	numbers := slices.SortedFunc(maps.Keys(p.Versions), func(a, b string) int {
		return cmp.Or(p.Versions[b]-p.Versions[a], strings.Compare(a, b))
	})
	for i, n := range numbers {
		numbers[i] = fmt.Sprintf("%s (%d)", cmp.Or(n, "no version"), p.Versions[n])
	}
	return cmp.Or(strings.Join(numbers, ", "), "-")
}

func (a *app) pool() *cobra.Command {
	cmd := &cobra.Command{Use: "pool", Short: "Pools of hosts"}
	act := func(use, short string, needsReason bool,
		call func(context.Context, *client.Client, []string, string) (client.Pool, error),
	) *cobra.Command {
		var reason string
		c := &cobra.Command{
			Use: use, Short: short, Args: named, ValidArgsFunction: a.complete(poolNames),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				p, err := call(ctx, c, args, reason)
				if err != nil {
					return err
				}
				a.say("Pool %s is to run %s (%s); %s.", p.Name, cmp.Or(p.Target, "nothing"), follows(p), drift(p))
				if a.structured() {
					return a.object(p)
				}
				return nil
			}),
		}
		c.Flags().StringVar(&reason, "reason", "", "why")
		if needsReason {
			_ = c.MarkFlagRequired("reason")
		}
		return c
	}
	var overrule bool
	pin := act("pin POOL NUMBER", "Make a pool run one version, whatever its track names", true,
		func(ctx context.Context, c *client.Client, args []string, reason string) (client.Pool, error) {
			_, err := a.preview(ctx, c, false, client.PreviewRequest{
				Act: "pin", Pools: args[:1], Number: args[1],
				Overrule: overrule,
			}, "Pin %s to %s?", args[0], args[1])
			if err != nil {
				return client.Pool{}, err
			}
			return c.Pin(ctx, args[0], client.Pin{Version: args[1], Reason: reason, Overrule: overrule})
		})
	pin.Long = "Make a pool run one version, whatever its track names. Pinning a pool that follows live to a " +
		"version that\nwas never live needs what activating it would need: the role approver, and clearance."
	pin.Flags().BoolVar(&overrule, "overrule", false, "pin production to a version without clearance (administrators)")
	cmd.AddCommand(&cobra.Command{
		Use: "list", Short: "All pools", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			pools, err := c.Pools(ctx)
			if err != nil {
				return err
			}
			return list(a, pools, "There is no pool yet: load an estate file.",
				column[client.Pool]{"Pool", func(p client.Pool) string { return p.Name }},
				column[client.Pool]{"Site", func(p client.Pool) string { return p.Site }},
				column[client.Pool]{"Follows", follows},
				column[client.Pool]{"Should run", func(p client.Pool) string { return cmp.Or(p.Target, "-") }},
				column[client.Pool]{"Runs", runs},
				column[client.Pool]{"Hosts", func(p client.Pool) string { return fmt.Sprint(p.Hosts) }},
				column[client.Pool]{"Serving", func(p client.Pool) string {
					return fmt.Sprint(p.States[host.Serving])
				}},
				column[client.Pool]{"Sessions", func(p client.Pool) string { return fmt.Sprint(p.Sessions) }},
				column[client.Pool]{"Free seats", func(p client.Pool) string {
					return fmt.Sprintf("%d of %d", p.Free,
						p.Hosts*p.SeatsPerHost)
				}},
				column[client.Pool]{"Drifting", func(p client.Pool) string { return fmt.Sprint(p.Drifting) }},
				column[client.Pool]{"Rollover", func(p client.Pool) string {
					if p.Rollover == 0 {
						return "-"
					}
					return fmt.Sprint(p.Rollover)
				}})
		}),
	}, &cobra.Command{
		Use: "show POOL", Short: "One pool with its hosts", Args: named, ValidArgsFunction: a.complete(poolNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Pool(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(p)
			}
			hosts, err := c.Hosts(ctx, client.HostQuery{Pool: p.Name})
			if err != nil {
				return err
			}
			if a.output == "table" {
				rollover := ""
				if p.Rollover != 0 {
					rollover = fmt.Sprintf("%d is under way: pane rollover watch %d", p.Rollover, p.Rollover)
				}
				a.facts(fact{"Pool", p.Name}, fact{"Title", p.Title}, fact{"Site", p.Site}, fact{"Follows", follows(p)},
					fact{"Pinned because", p.PinnedWhy}, fact{"Should run", p.Target},
					fact{"Machine class", p.MachineClass},
					fact{"Hosts", fmt.Sprintf("%d: %s", p.Hosts, counts(p.States))},
					fact{"Versions", counts(p.Versions)}, fact{"Drifting", fmt.Sprint(p.Drifting)},
					fact{"Seats", fmt.Sprintf("%d in service, %d free, %s", p.InService, p.Free,
						many(p.Sessions, "session"))}, fact{"Rollover", rollover})
				a.say("")
			}
			return a.hosts(hosts)
		}),
	}, pin, act("unpin POOL", "Make a pool follow its track again", false,
		func(ctx context.Context, c *client.Client, args []string, reason string) (client.Pool, error) {
			p, err := c.Pool(ctx, args[0])
			if err == nil && p.Pinned == "" {
				a.say("Pool %s is already unpinned.", p.Name)
			}
			if err != nil {
				return p, err
			}
			return c.Unpin(ctx, args[0], reason)
		}), &cobra.Command{
		Use: "tell POOL TEXT", Short: "Show a text to everybody in a pool", Args: named,
		ValidArgsFunction: a.complete(poolNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			people, err := c.Sessions(ctx, client.SessionQuery{Pool: args[0]})
			if err != nil {
				return err
			}
			var r client.Told
			tell := func(ctx context.Context) (err error) {
				r, err = c.TellPool(ctx, args[0], args[1])
				return err
			}
			if len(people) == 0 {
				err = tell(ctx)
			} else {
				err = a.confirmed(ctx, tell, "Show the text to %s in pool %s?",
					english.Plural(len(people), "person", "people"), args[0])
			}
			if err == nil {
				a.say("%s told.", english.Plural(r.Sessions, "person is", "people are"))
			}
			return err
		}),
	})
	return cmd
}

func (a *app) hosts(hosts []client.Host) error {
	return list(a, hosts, "No host is like that.",
		column[client.Host]{"Host", func(h client.Host) string { return h.Name }},
		column[client.Host]{"Pool", func(h client.Host) string { return h.Pool }},
		column[client.Host]{"State", func(h client.Host) string { return coloured(h.State) }},
		column[client.Host]{"Version", func(h client.Host) string { return cmp.Or(h.Version, "-") }},
		column[client.Host]{"Drift", func(h client.Host) string {
			if h.Drifts {
				return "should run " + h.Target
			}
			return ""
		}},
		column[client.Host]{"Sessions", func(h client.Host) string {
			return fmt.Sprintf("%d of %d", h.Sessions,
				h.Seats)
		}},
		column[client.Host]{"Heard", func(h client.Host) string { return cmp.Or(when(h.SeenAt), "never") }},
		column[client.Host]{"Why", func(h client.Host) string {
			if h.DrainedBy != "" {
				return "drained by " + h.DrainedBy
			}
			return h.Why
		}})
}

func (a *app) host() *cobra.Command {
	cmd := &cobra.Command{Use: "host", Short: "Hosts"}
	var q client.HostQuery
	listing := &cobra.Command{
		Use: "list", Short: "Hosts by name", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			hosts, err := c.Hosts(ctx, q)
			if err != nil {
				return err
			}
			return a.hosts(hosts)
		}),
	}
	f := listing.Flags()
	f.StringVar(&q.Pool, "pool", "", "only hosts of this pool")
	f.StringVar(&q.Site, "site", "", "only hosts at this site")
	f.StringVar(&q.Image, "image", "", "only hosts of this image")
	f.StringVar((*string)(&q.State), "state", "", "only hosts in this state")
	f.StringVar(&q.Version, "version", "", "only hosts that run this version")
	f.BoolVar(&q.Drifts, "drifts", false, "only hosts that run another version than they should")
	f.StringVar(&q.Find, "find", "", "only hosts with this in their name")
	_ = listing.RegisterFlagCompletionFunc("state",
		cobra.FixedCompletions(completions(host.States()), cobra.ShellCompDirectiveNoFileComp))

	act := func(verb, short string, call func(*client.Client, context.Context, string, string) (client.Host,
		error),
	) *cobra.Command {
		var reason string
		c := &cobra.Command{
			Use: verb + " HOST...", Short: short, Args: named, ValidArgsFunction: a.complete(hostNames),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				// A name that is wrong refuses the whole list, before anything is done.
				var hosts []client.Host
				for _, name := range args {
					h, err := c.Host(ctx, name)
					if err != nil {
						return err
					}
					hosts = append(hosts, h)
				}
				var not []string
				for _, h := range hosts {
					already := verb == "drain" && h.DrainedBy != "" || verb == "return" && h.State == host.Serving
					h, err := call(c, ctx, h.Name, reason)
					switch {
					case client.IsStatus(err, http.StatusConflict):
						not = append(not, err.Error())
						continue
					case err != nil:
						return err
					}
					word := ""
					if already {
						word = "already "
					}
					a.say("Host %s is %s%s, with %s.", h.Name, word, h.State, many(h.Sessions, "session"))
				}
				if len(not) > 0 {
					return &notDone{not}
				}
				return nil
			}),
		}
		c.Flags().StringVar(&reason, "reason", "", "why")
		return c
	}
	var rebuild client.RebuildHost
	rebuilding := &cobra.Command{
		Use: "rebuild HOST", Short: "Give a host a new disk of the version that it should run", Args: named,
		ValidArgsFunction: a.complete(hostNames),
		Long: "Give a host a new disk, by a rollover of this one host: it drains, its people leave, it is " +
			"rebuilt,\nchecked and put back. A faulty host whose agent is silent is rebuilt only with " +
			"--vouch-empty: silence\nproves nothing about who is on it.",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var r client.Rollover
			if err := a.confirmed(ctx, func(ctx context.Context) (err error) {
				r, err = c.RebuildHost(ctx, args[0], rebuild)
				return err
			}, "Throw the disk of %s away and make a new one?", args[0]); err != nil {
				return err
			}
			a.say("Rollover %d rebuilds %s. Watch it with: pane rollover watch %d", r.ID, args[0], r.ID)
			if a.structured() {
				return a.object(r)
			}
			return nil
		}),
	}
	rebuilding.Flags().StringVar(&rebuild.Reason, "reason", "", "why")
	rebuilding.Flags().BoolVar(&rebuild.VouchEmpty, "vouch-empty", false, "you have made sure that nobody is on it")
	cmd.AddCommand(listing, &cobra.Command{
		Use: "show HOST", Short: "One host with its sessions", Args: named, ValidArgsFunction: a.complete(hostNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			h, err := c.Host(ctx, args[0])
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(h)
			}
			a.facts(fact{"Host", h.Name}, fact{"Pool", h.Pool}, fact{"Site", h.Site},
				fact{"State", coloured(h.State) + " since " + when(&h.Since)}, fact{"Why", h.Why},
				fact{"Drained by", h.DrainedBy},
				fact{"Runs", h.Version}, fact{"Reports", h.Stamp}, fact{"Should run", h.Target},
				fact{"Drifts", yesNo(h.Drifts)}, fact{
					"Checks",
					strings.TrimSpace(string(h.Checks) + " " + h.ChecksWhy),
				},
				fact{"Heard", cmp.Or(when(h.SeenAt), "never")}, fact{"Load", fmt.Sprintf("%.2f", h.Load)})
			if h.Machine != nil {
				a.say("")
				a.facts(machineFacts(h.Machine)...)
			}
			a.say("")
			return a.sessions(ctx, c, client.SessionQuery{Host: h.Name})
		}),
	}, act("drain", "Give hosts no new sessions; those there go on", (*client.Client).DrainHost),
		act("return", "Put drained or faulty hosts back to service", (*client.Client).ReturnHost), rebuilding)
	return cmd
}

func (a *app) sessions(ctx context.Context, c *client.Client, q client.SessionQuery) error {
	sessions, err := c.Sessions(ctx, q)
	if err != nil {
		return err
	}
	none := "Nobody is signed in."
	if q != (client.SessionQuery{Host: q.Host}) {
		none = "No session is like that."
	}
	return list(a, sessions, none,
		column[client.Session]{"On host", func(s client.Session) string { return s.Host }},
		column[client.Session]{"Session", func(s client.Session) string { return s.Key }},
		column[client.Session]{"Person", func(s client.Session) string { return s.Person }},
		column[client.Session]{"State", func(s client.Session) string { return string(s.State) }},
		column[client.Session]{"Since", func(s client.Session) string { return when(&s.Since) }},
		column[client.Session]{"That host is", func(s client.Session) string { return coloured(s.HostState) }})
}

func (a *app) session() *cobra.Command {
	cmd := &cobra.Command{Use: "session", Short: "People's sessions"}
	var q client.SessionQuery
	listing := &cobra.Command{
		Use: "list", Short: "Sessions by host", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error { return a.sessions(ctx, c, q) }),
	}
	f := listing.Flags()
	f.StringVar(&q.Pool, "pool", "", "only sessions in this pool")
	f.StringVar(&q.Host, "host", "", "only sessions on this host")
	f.StringVar(&q.Person, "person", "", "only sessions of this person")
	f.StringVar((*string)(&q.State), "state", "", "active, idle or disconnected")
	f.StringVar((*string)(&q.HostState), "host-state", "", "only sessions on hosts in this state")
	f.StringVar(&q.Find, "find", "", "only sessions with this in the name of their person or host")
	var reason string
	signOff := &cobra.Command{
		Use: "sign-off HOST SESSION", Short: "End a session; what is not saved is lost", Args: named,
		ValidArgsFunction: a.complete(hostNames, sessionKeys),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := sessionOn(ctx, c, args[0], args[1])
			if err != nil {
				return err
			}
			end := func(ctx context.Context) error { return c.SignOffSession(ctx, args[0], args[1], reason) }
			if err := a.confirmed(ctx, end, "End session %s of %s on %s? Unsaved work is lost.", s.Key, s.Person,
				s.Host); err != nil {
				return err
			}
			a.say("Session %s on %s is being ended.", args[1], args[0])
			return nil
		}),
	}
	signOff.Flags().StringVar(&reason, "reason", "", "why")
	cmd.AddCommand(listing, signOff, &cobra.Command{
		Use: "tell HOST SESSION TEXT", Short: "Show a text to one person", Args: named,
		ValidArgsFunction: a.complete(hostNames, sessionKeys),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := sessionOn(ctx, c, args[0], args[1])
			if err != nil {
				return err
			}
			err = a.confirmed(ctx, func(ctx context.Context) error {
				_, err := c.TellSession(ctx, args[0], args[1], args[2])
				return err
			}, "Show the text to %s on %s?", s.Person, s.Host)
			if err == nil {
				a.say("They are told.")
			}
			return err
		}),
	})
	return cmd
}

// sessionOn returns the session of a host that has the key.
func sessionOn(ctx context.Context, c *client.Client, host, key string) (s client.Session, err error) {
	sessions, err := c.Sessions(ctx, client.SessionQuery{Host: host})
	if err != nil {
		return s, err
	}
	for _, s := range sessions {
		if s.Key == key {
			return s, nil
		}
	}
	return s, &client.Error{
		Status: http.StatusNotFound, Detail: fmt.Sprintf("session %q on host %q: not found", key, host),
	}
}

// driftByPool sums drifting hosts up, by pool and by the version that they run.
func (a *app) driftByPool(hosts []client.Host, pools []client.Pool) error {
	type sum struct {
		pool, target, runs string
		hosts, of          int
	}
	var sums []*sum
	for _, h := range hosts {
		i := slices.IndexFunc(sums, func(s *sum) bool { return s.pool == h.Pool && s.runs == h.Version })
		if i < 0 {
			i = len(sums)
			sums = append(sums, &sum{pool: h.Pool, target: h.Target, runs: h.Version})
			for _, p := range pools {
				if p.Name == h.Pool {
					sums[i].of = p.Hosts
				}
			}
		}
		sums[i].hosts++
	}
	return list(a, sums, "",
		column[*sum]{"Pool", func(s *sum) string { return s.pool }},
		column[*sum]{"Should run", func(s *sum) string { return s.target }},
		column[*sum]{"Runs", func(s *sum) string { return cmp.Or(s.runs, "no version") }},
		column[*sum]{"Hosts", func(s *sum) string { return fmt.Sprintf("%d of %d", s.hosts, s.of) }})
}

func (a *app) drift() *cobra.Command {
	var pool string
	cmd := &cobra.Command{
		Use: "drift", Short: "Hosts that run another version than they should", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			hosts, err := c.Hosts(ctx, client.HostQuery{Pool: pool, Drifts: true})
			if err != nil {
				return err
			}
			if len(hosts) == 0 && a.output == "table" {
				a.say("No host drifts.")
				return nil
			}
			if a.output == "table" {
				pools, err := c.Pools(ctx)
				if err != nil {
					return err
				}
				if err := a.driftByPool(hosts, pools); err != nil {
					return err
				}
				fmt.Fprintln(a.out)
			}
			return list(a, hosts, "",
				column[client.Host]{"Host", func(h client.Host) string { return h.Name }},
				column[client.Host]{"Pool", func(h client.Host) string { return h.Pool }},
				column[client.Host]{"Runs", func(h client.Host) string { return cmp.Or(h.Version, "-") }},
				column[client.Host]{"Should run", func(h client.Host) string { return h.Target }},
				column[client.Host]{"Since", func(h client.Host) string { return cmp.Or(when(h.TargetSince), "-") }},
				column[client.Host]{"State", func(h client.Host) string { return coloured(h.State) }},
				column[client.Host]{"Reason", func(h client.Host) string { return h.DriftReason }})
		}),
	}
	cmd.Flags().StringVar(&pool, "pool", "", "only hosts of this pool")
	return cmd
}
