package main

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/image"
	"nimblepane/core/role"
	"nimblepane/core/rollover"
	"nimblepane/core/schedule"
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
	}
	if err := d.signIn(ctx); err != nil {
		return nil, err
	}
	// While time flies, it is night on the line.
	if _, err := d.people["mira"].LoadFlaws(ctx, "saltmarsh", knownFlaws); err != nil {
		return nil, err
	}
	if _, err := d.people["mira"].LoadEstate(ctx, bytes.Replace(s.estate(), []byte(byDay), []byte("rate: 40MiB"), 1),
		false); err != nil {
		return nil, err
	}
	// No list covers these, and the image asks for no serious flaw.
	for ecosystem, why := range map[string]string{
		"flatpak": "the timetable is our own, and reviewed in house", "folder": "the fax client has no network",
	} {
		if err := d.people["tove"].AcceptUnchecked(ctx, counter, client.AcceptUnchecked{
			Ecosystem: ecosystem, Reason: why,
		}); err != nil {
			return nil, err
		}
	}
	return d, nil
}

// knownFlaws are a made-up list of flaws in what the practice machines have.
//
//go:embed saltmarsh/flaws.json
var knownFlaws []byte

// byDay is what may go over the line between the quays while tickets are sold.
const byDay = "rate: 256KiB"

// signIn has everybody sign in.
func (d *seeder) signIn(ctx context.Context) error {
	for _, p := range staff {
		c, _, err := d.signedIn(ctx, p.name)
		if err != nil {
			return err
		}
		d.people[p.name] = c
	}
	return nil
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

// keep has the service keep a sheet, with what it names beside it, and returns its text.
func (d *seeder) keep(ctx context.Context, name string, mend func(string) string) (string, error) {
	beside, err := fs.Sub(sheets, "saltmarsh")
	if err != nil {
		return "", err
	}
	written, err := fs.ReadFile(beside, name+".yaml")
	if err != nil {
		return "", err
	}
	c, text := d.people["jonas"], mend(string(written))
	s, _ := sheet.Parse([]byte(text)) // one of them is wrong
	files, err := c.SendSheetFiles(ctx, beside, s.Sources(), nil)
	if err != nil {
		return "", err
	}
	revision := 0
	switch there, err := c.Sheet(ctx, name); {
	case err == nil:
		revision = there.Revision
	case !client.IsStatus(err, http.StatusNotFound):
		return "", err
	}
	_, err = c.SaveSheet(ctx, name, revision, client.SheetText{Text: text, Files: files})
	return text, err
}

// asItIs leaves a sheet as it is written.
func asItIs(text string) string { return text }

// build has a kept sheet built, which ends in a state.
func (d *seeder) build(ctx context.Context, name string, ends build.State) (b client.WholeBuild, err error) {
	c := d.people["jonas"]
	if b, err = c.BuildSheet(ctx, name, client.BuildSheet{}); err != nil {
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

// untilSeason is how long it is from when the practice sites begin until the desks are taken into service.
const untilSeason = 6 * fortnight

const fortnight = 14 * 24 * time.Hour

// past has the desk of the counters built every other week, before anybody uses it.
func (d *seeder) past(ctx context.Context) error {
	d.say("building the desk of the counters every other week for two months ...")
	if _, err := d.keep(ctx, counter, func(text string) string {
		return strings.Replace(text, "{track: live}", "{disk: vendor.qcow2}", 1)
	}); err != nil {
		return err
	}
	for range 5 {
		if _, err := d.build(ctx, counter, build.Ready); err != nil {
			return err
		}
		if err := d.forward(ctx, fortnight); err != nil {
			return err
		}
	}
	return d.forward(ctx, untilSeason-5*fortnight)
}

// forward passes over a time, and waits until the service has seen that it did.
func (d *seeder) forward(ctx context.Context, by time.Duration) error {
	before, err := d.people["mira"].Status(ctx)
	if err != nil {
		return err
	}
	// The machine of a version's first start may be there for a moment after its build is done.
	err = until(ctx, "hosts to be gone", func() (bool, error) {
		err := d.practiceCtl(ctx, "forward", by.String())
		if err != nil && strings.Contains(err.Error(), "there are hosts") {
			return false, nil
		}
		return err == nil, err
	})
	if err != nil {
		return err
	}
	err = until(ctx, "the time to pass", func() (bool, error) {
		now, err := d.people["mira"].Status(ctx)
		if client.IsStatus(err, http.StatusUnauthorized) {
			return true, nil // nobody stays signed in for so long
		}
		return now.Now.Sub(before.Now) >= by, err
	})
	if err != nil {
		return err
	}
	return d.signIn(ctx)
}

// roll rolls pools side by side and waits until all are done.
func (d *seeder) roll(ctx context.Context, o client.Options, pools ...string) error {
	c := d.people["jonas"]
	rows, _, err := c.StartRollovers(ctx, client.StartRollovers{Pools: pools, Options: o})
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
	seedRate = 600
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

// bases has the vendor's feed read, and brings in the release of it that is in use: there is a newer one.
func (d *seeder) bases(ctx context.Context) error {
	d.say("bringing in a vendor's release ...")
	c := d.people["jonas"]
	if _, err := c.AddFeed(ctx, client.NewFeed{
		Name: "estuary", Address: fmt.Sprintf("http://127.0.0.1:%d/feed/", d.practice),
	}); err != nil {
		return err
	}
	if err := until(ctx, "the feed to be read", func() (bool, error) {
		f, err := c.Feed(ctx, "estuary")
		return f.Releases > 0, err
	}); err != nil {
		return err
	}
	if _, err := c.BringBase(ctx, client.NewBase{
		Name: "harbour-13", Feed: "estuary", Labels: base.Labels{Product: "Harbour Linux", Release: "13"},
		Serial: "20260804",
	}); err != nil {
		return err
	}
	return until(ctx, "the base", func() (bool, error) {
		b, err := c.Base(ctx, "harbour-13")
		if err == nil && b.State == base.Failed {
			err = errors.New(b.Why)
		}
		return b.State == base.Ready, err
	})
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
	if _, err := d.keep(ctx, counter, func(text string) string {
		return strings.Replace(text, "tide-tables", "tide-table", 1)
	}); err != nil {
		return err
	}
	if _, err := d.build(ctx, counter, build.Failed); err != nil {
		return err
	}
	if _, err := d.keep(ctx, counter, asItIs); err != nil {
		return err
	}
	made, err := d.build(ctx, counter, build.Ready)
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
	if err := d.morning(ctx); err != nil {
		return err
	}
	if _, err := d.keep(ctx, "crew-desk", asItIs); err != nil {
		return err
	}
	if err := d.follow(ctx); err != nil {
		return err
	}
	for _, s := range []client.NewSchedule{
		{
			Name: "monthly", Sheet: counter, Mode: schedule.IfChanged, Zone: "Europe/Paris",
			Rule: "FREQ=MONTHLY;BYDAY=1MO;BYHOUR=2;BYMINUTE=30",
		},
		{Name: "charts", Sheet: chart, Mode: schedule.OnChanges},
	} {
		if _, err := d.people["jonas"].AddSchedule(ctx, s); err != nil {
			return err
		}
	}
	// It takes most of the day.
	if _, err = d.people["anton"].BuildSheet(ctx, chart, client.BuildSheet{}); err != nil {
		return err
	}
	return d.underWay(ctx)
}

// underWay has a version be on its way to the other quay, over a line that is narrow by day.
func (d *seeder) underWay(ctx context.Context) error {
	c := d.people["jonas"]
	if err := until(ctx, "the base of the build", func() (bool, error) {
		list, err := c.Deliveries(ctx, client.Deliveries{Ended: true})
		base := slices.IndexFunc(list, func(x client.Delivery) bool { return x.Base != "" })
		return base >= 0 && list[base].EndedAt != nil, err
	}); err != nil {
		return err
	}
	if _, err := d.people["mira"].LoadEstate(ctx, d.estate(), false); err != nil {
		return err
	}
	if _, err := c.Capture(ctx, counter, client.Capture{
		BuildMachine: "bm-counter", Notes: "Berth Planner 5.0, for December", Tags: []string{"december"},
	}); err != nil {
		return err
	}
	return until(ctx, "the version to be on its way", func() (bool, error) {
		list, err := c.Deliveries(ctx, client.Deliveries{Site: "south-quay"})
		return slices.ContainsFunc(list, func(x client.Delivery) bool { return x.Sent > 0 }), err
	})
}

// follow has the sheet of the chart plotters follow the one in the ferries' repository.
func (d *seeder) follow(ctx context.Context) error {
	c := d.people["jonas"]
	st, err := c.Status(ctx)
	if err != nil {
		return err
	}
	if err := d.desks(st.Now); err != nil {
		return err
	}
	if _, err := c.FollowRepository(ctx, chart, client.NewRepository{
		Address: "file://" + filepath.Join(d.repositories(), "desks"), Branch: "main", Folder: "charts",
		File: "desk.yaml", Every: 60,
	}); err != nil {
		return err
	}
	return until(ctx, "the sheet of the chart plotters", func() (bool, error) {
		s, err := c.Sheet(ctx, chart)
		if err == nil && s.Repository.Why != "" {
			err = errors.New(s.Repository.Why)
		}
		return s.Commit != "", err
	})
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
