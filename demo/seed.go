package main

import (
	"context"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/image"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/core/sheet"
)

// password of every account of the demo.
const password = "saltmarsh-demo"

// The people who look after the desktops of Saltmarsh Ferries.
var staff = []struct {
	name, title string
	role        role.Role
}{
	{"mira", "Mira Tidewell", role.Administrator},
	{"tove", "Tove Quayle", role.Approver},
	{"jonas", "Jonas Lock", role.Operator},
	{"wilma", "Wilma Gangway", role.Operator},
	{"anton", "Anton Fairlead", role.Operator},
	{"guest", "Guest of the harbour office", role.Viewer},
}

// seeder makes an estate with a history, by the same acts that a person would use.
type seeder struct {
	*stack
	people map[string]*client.Client
	say    func(string, ...any)
}

// newSeeder makes the accounts, loads the estate and waits for the build machines.
func newSeeder(ctx context.Context, s *stack, say func(string, ...any)) (*seeder, error) {
	d := &seeder{stack: s, people: map[string]*client.Client{}, say: say}
	for _, p := range staff {
		if err := s.addAccount(ctx, p.name, p.title, string(p.role), password); err != nil {
			return nil, err
		}
		c, _, err := s.signedIn(ctx, p.name)
		if err != nil {
			return nil, err
		}
		d.people[p.name] = c
	}
	_, err := d.people["mira"].LoadEstate(ctx, s.estate(), false)
	return d, err
}

// capture makes a version and waits until all its copies are there.
func (d *seeder) capture(ctx context.Context, of, from, notes string, endOfLife time.Duration) (string, error) {
	c := d.people["jonas"]
	st, err := c.Status(ctx)
	if err != nil {
		return "", err
	}
	end := st.Now.Add(endOfLife).Truncate(24 * time.Hour)
	v, err := c.Capture(ctx, of, client.Capture{BuildMachine: from, Notes: notes, EndOfLife: &end})
	if err != nil {
		return "", err
	}
	return v.Number, until(ctx, "the copies of "+of+" "+v.Number, func() (bool, error) {
		v, err := c.Version(ctx, of, v.Number)
		return v.State == image.Sealed && len(v.Copies) > 0 &&
			!slices.ContainsFunc(v.Copies, func(x client.Copy) bool { return x.State != image.CopyPresent }), err
	})
}

// build has a sheet built, which ends in a state.
func (d *seeder) build(ctx context.Context, text string, ends build.State) (b client.WholeBuild, err error) {
	c := d.people["jonas"]
	s, err := sheet.Parse([]byte(text))
	if err != nil {
		return b, err
	}
	beside, err := fs.Sub(sheetFolder, "saltmarsh")
	if err != nil {
		return b, err
	}
	files, err := c.SendSheetFiles(ctx, beside, s.Sources(), nil)
	if err != nil {
		return b, err
	}
	if b, err = c.StartBuild(ctx, client.StartBuild{Sheet: text, Files: files}); err != nil {
		return b, err
	}
	err = until(ctx, fmt.Sprintf("build %d", b.ID), func() (bool, error) {
		b, err = c.Build(ctx, b.ID)
		if err == nil && b.State.Ended() && b.State != ends {
			err = fmt.Errorf("it is %s: %s", b.State, b.Why)
		}
		return b.Settled, err
	})
	return b, err
}

// roll rolls pools side by side and waits until all are done.
func (d *seeder) roll(ctx context.Context, o client.Options, pools ...string) error {
	c := d.people["jonas"]
	rows, err := c.StartRollovers(ctx, client.StartRollovers{Pools: pools, Options: o})
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := d.finished(ctx, r.ID); err != nil {
			return err
		}
	}
	return nil
}

func (d *seeder) finished(ctx context.Context, id int64) error {
	return until(ctx, fmt.Sprintf("rollover %d", id), func() (bool, error) {
		r, err := d.people["jonas"].Rollover(ctx, id)
		if err == nil && r.State == rollover.Paused {
			err = fmt.Errorf("rollover %d paused: %s", id, r.PausedWhy)
		}
		return r.Settled, err
	})
}

// try stages a version, rolls the pilot pool, has testers sign, and lets it soak.
func (d *seeder) try(ctx context.Context, image, number, pilot string, testers ...string) error {
	if _, err := d.people["jonas"].Stage(ctx, image, number, client.Staging{}); err != nil {
		return err
	}
	if err := d.roll(ctx, client.Options{Batch: "50%", Floor: "0", LogOff: "warn", Grace: "10m"}, pilot); err != nil {
		return err
	}
	for _, t := range testers {
		if _, err := d.people[t].Sign(ctx, image, number,
			client.Sign{Yes: true, Comment: "Fare Desk and Tide Tables open, printing works"}); err != nil {
			return err
		}
	}
	return nil
}

// goLive waits for the soak with a fast clock, and activates.
func (d *seeder) goLive(ctx context.Context, image, number string) error {
	if err := d.rate(ctx, 3000); err != nil {
		return err
	}
	err := until(ctx, "clearance of "+image+" "+number, func() (bool, error) {
		t, err := d.people["tove"].Trial(ctx, image, number)
		return t.Cleared, err
	})
	if err != nil {
		return err
	}
	if err := d.rate(ctx, seedRate); err != nil {
		return err
	}
	_, err = d.people["tove"].Activate(ctx, image, number, client.Activation{Reason: "trial passed"})
	return err
}

const (
	seedRate = 900
	demoRate = 60
)

var (
	// quick takes a pool that nobody uses yet all at once.
	quick = client.Options{Batch: "100%", Floor: "0"}
	// daily is how Saltmarsh Ferries rolls in earnest.
	daily = client.Options{Batch: "25%", Floor: "10%", LogOff: "warn", Grace: "15m", LastNotice: "3m"}
)

const (
	year    = 365 * 24 * time.Hour
	counter = "counter-desk"
	chart   = "chart-desk"
)

// first brings version one of both images into service everywhere.
func (d *seeder) first(ctx context.Context) error {
	d.say("making the first versions of both images and building %d hosts from them ...", 122)
	one, err := d.capture(ctx, counter, "bm-counter", "Fare Desk 6.1, first image of the season", year)
	if err != nil {
		return err
	}
	chartOne, err := d.capture(ctx, chart, "bm-chart", "Berth Planner 4.8 with the graphics driver of autumn", year)
	if err != nil {
		return err
	}
	if err := d.try(ctx, counter, one, "ticket-pilot", "wilma", "anton"); err != nil {
		return err
	}
	if err := d.try(ctx, chart, chartOne, "chart-pilot", "anton"); err != nil {
		return err
	}
	if err := d.goLive(ctx, counter, one); err != nil {
		return err
	}
	if err := d.goLive(ctx, chart, chartOne); err != nil {
		return err
	}
	return d.roll(ctx, quick, "ticket-counters", "back-office", "crew-rooms", "chart-plotters")
}

// history goes on from there to a Monday morning on which there is something to do.
func (d *seeder) history(ctx context.Context) error {
	d.say("rolling the second version out, with people at work ...")
	two, err := d.capture(ctx, counter, "bm-counter", "Fare Desk 6.2 with the winter timetable, Crew Roster 3.4",
		year/2)
	if err != nil {
		return err
	}
	if err := d.try(ctx, counter, two, "ticket-pilot", "wilma", "anton"); err != nil {
		return err
	}
	if err := d.goLive(ctx, counter, two); err != nil {
		return err
	}
	if err := d.roll(ctx, daily, "ticket-counters", "back-office", "crew-rooms"); err != nil {
		return err
	}
	d.say("staging the third, and letting a few things go wrong ...")
	// The sheet names a package that there is not at first; the build says so, and the mended one goes through.
	wrong := strings.Replace(sheetFile, "tide-tables", "tide-table", 1)
	if _, err := d.build(ctx, wrong, build.Failed); err != nil {
		return err
	}
	made, err := d.build(ctx, sheetFile, build.Ready)
	if err != nil {
		return err
	}
	three := made.Version
	if err := d.try(ctx, counter, three, "ticket-pilot", "wilma"); err != nil {
		return err
	}
	chartTwo, err := d.capture(ctx, chart, "bm-chart", "Tide Tables 2.9, new chart sheets of the estuary",
		20*24*time.Hour)
	if err != nil {
		return err
	}
	if err := d.try(ctx, chart, chartTwo, "chart-pilot", "anton"); err != nil {
		return err
	}
	if err := d.goLive(ctx, chart, chartTwo); err != nil {
		return err
	}
	// One host comes back from a rebuild with a program that does not open.
	if err := d.practiceCtl(ctx, "knobs", "fault", "south-quay", "check-fails", "cr-017"); err != nil {
		return err
	}
	r, err := d.people["jonas"].RebuildHost(ctx, "cr-017", client.RebuildHost{Reason: "screen flickers"})
	if err != nil {
		return err
	}
	if err := until(ctx, "the rebuild of cr-017", func() (bool, error) {
		r, err := d.people["jonas"].Rollover(ctx, r.ID)
		return r.State == rollover.Paused, err
	}); err != nil {
		return err
	}
	if _, err := d.people["jonas"].ChangeRollover(ctx, r.ID, "stop", "looking at it tomorrow"); err != nil {
		return err
	}
	if err := d.practiceCtl(ctx, "knobs", "mend", "south-quay"); err != nil {
		return err
	}
	if _, err := d.people["wilma"].DrainHost(ctx, "bo-012", "memory to be swapped"); err != nil {
		return err
	}
	d.say("waiting for a morning with people at work ...")
	return d.morning(ctx)
}

// morning lets the night pass, until half past nine of a day.
func (d *seeder) morning(ctx context.Context) error {
	if err := d.rate(ctx, 3000); err != nil {
		return err
	}
	err := until(ctx, "the morning", func() (bool, error) {
		s, err := d.people["mira"].Status(ctx)
		return s.Now.Hour() == 9 && s.Now.Minute() < 50, err
	})
	if err != nil {
		return err
	}
	if err := d.rate(ctx, demoRate); err != nil {
		return err
	}
	return until(ctx, "people to sign in", func() (bool, error) {
		pools, err := d.people["mira"].Pools(ctx)
		n := 0
		for _, p := range pools {
			n += p.Sessions
		}
		return n > 250, err
	})
}

// until waits for something that the service or the practice sites bring about.
func until(ctx context.Context, what string, is func() (bool, error)) error {
	deadline := time.Now().Add(4 * time.Minute)
	for {
		ok, err := is()
		if err != nil {
			return fmt.Errorf("waiting for %s: %w", what, err)
		}
		if ok {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("waiting for %s: it did not come", what)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
