package fleet

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"

	"nimblepane/core/estate"
	"nimblepane/core/host"
	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/engine/versions"
	"nimblepane/store"
)

// LoadResult says what loading an estate file changed.
type LoadResult struct {
	Changes []string // one a line; empty if nothing changed
}

// LoadEstate brings sites, images and pools to what the file says. The file
// is checked first, against itself and against what there is; with dryRun
// nothing else is done. Loading the same file twice changes nothing. What is
// not in the file is left alone.
func (fl *Fleet) LoadEstate(ctx context.Context, actor string, file []byte, dryRun bool) (LoadResult, error) {
	var result LoadResult
	f, err := estate.Parse(file)
	if err != nil {
		var problems estate.Problems
		if !errors.As(err, &problems) {
			return result, err
		}
		p := &problem.Problem{Type: problem.InvalidFile, Detail: "the estate file has " +
			english.Plural(len(problems), "problem", "")}
		if len(problems) == 1 {
			p.Detail = "the estate file has a problem"
		}
		for _, x := range problems {
			p.Reasons = append(p.Reasons, x.Error())
		}
		return result, p
	}
	if err := fl.fits(ctx, f); err != nil {
		return result, err
	}
	if dryRun {
		ctx = engine.WithDryRun(ctx)
	}
	err = fl.engine.Change(ctx, actor, func(tx *store.Tx) error {
		if !dryRun {
			if err := store.LockEstate(tx.DB); err != nil {
				return err
			}
		}
		l := loader{tx: tx, dry: dryRun}
		if err := l.load(f); err != nil {
			return err
		}
		if len(l.problems) > 0 {
			return &problem.Problem{
				Type: problem.WrongState, Detail: "the estate file conflicts with the present estate",
				Reasons: l.problems,
			}
		}
		result.Changes = l.changes
		return nil
	})
	return result, err
}

// fits asks the sites of a file whether its pools fit there: the hosts of each
// machine class of a site together. A site that does not answer now does not
// keep the file from being loaded.
func (fl *Fleet) fits(ctx context.Context, f estate.File) error {
	problem := &problem.Problem{Type: problem.WrongState, Detail: "the estate file conflicts with the present estate"}
	for _, s := range f.Sites {
		hosts := map[string][]string{} // by class
		for _, p := range f.Pools {
			if p.Site == s.Name {
				for n := 1; n <= p.Hosts; n++ {
					hosts[p.MachineClass] = append(hosts[p.MachineClass], estate.HostName(p.HostPrefix, n))
				}
			}
		}
		on, err := fl.engine.OpenSite(s)
		if err != nil {
			return err
		}
		for _, class := range slices.Sorted(maps.Keys(hosts)) {
			lacking, err := engine.CheckRoom(ctx, on, hosts[class], class)
			if err != nil {
				fl.engine.Log.Warn("whether pools fit could not be asked", "site", s.Name, "err", err)
			}
			if lacking != "" {
				problem.Reasons = append(problem.Reasons, lacking)
			}
		}
		on.Close()
	}
	if len(problem.Reasons) > 0 {
		return problem
	}
	return nil
}

type loader struct {
	tx       *store.Tx
	dry      bool // nothing is written, not even to be taken back
	changes  []string
	problems []string
}

func (l *loader) changed(verb, subject, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	l.changes = append(l.changes, subject+": "+text)
	l.tx.Record(store.Entry{Verb: verb, Subject: subject, Detail: map[string]any{"change": text}})
}

// create and save write a row, but in a dry run.
func (l *loader) create(row any) error {
	if l.dry {
		return nil
	}
	return l.tx.Create(row).Error
}

func (l *loader) save(row any) error {
	if l.dry {
		return nil
	}
	return l.tx.Save(row).Error
}

func (l *loader) problem(format string, args ...any) {
	l.problems = append(l.problems, fmt.Sprintf(format, args...))
}

func (l *loader) load(f estate.File) error {
	for _, line := range f.Lines {
		if err := l.line(line); err != nil {
			return err
		}
	}
	for _, s := range f.Sites {
		if err := l.site(s); err != nil {
			return err
		}
	}
	for _, i := range f.Images {
		if err := l.image(i); err != nil {
			return err
		}
	}
	for _, p := range f.Pools {
		if err := l.pool(p); err != nil {
			return err
		}
	}
	if f.Workshop == nil {
		return nil
	}
	return l.workshop(*f.Workshop)
}

func (l *loader) workshop(w estate.Workshop) error {
	now, err := store.Workshop(l.tx.DB)
	if err != nil {
		return err
	}
	var d difference
	set(&d, "currency", &now.Currency, w.Currency)
	set(&d, "longest", &now.Longest, w.Longest)
	set(&d, "left", &now.Left, w.Left)
	for _, class := range slices.Sorted(maps.Keys(w.Rates)) {
		have := now.Rates[class]
		set(&d, "rate of "+class, &have, w.Rates[class])
	}
	for _, class := range slices.Sorted(maps.Keys(now.Rates)) {
		if _, stays := w.Rates[class]; !stays {
			d = append(d, "no rate of "+class)
		}
	}
	if len(d) == 0 {
		return nil
	}
	l.changed("workshop.edit", "workshop", "%s", strings.Join(d, ", "))
	if l.dry {
		return nil
	}
	return store.SetWorkshop(l.tx, w)
}

// difference collects the fields that are to change.
type difference []string

func set[T comparable](d *difference, name string, field *T, to T) {
	if *field != to {
		*d = append(*d, fmt.Sprintf("%s from %v to %v", name, *field, to))
		*field = to
	}
}

func (l *loader) line(line estate.Line) error {
	row, err := store.LineNamed(l.tx.DB, line.Name)
	subject, verb, change, write := "line "+line.Name, "line.edit", "what goes over it", l.save
	switch {
	case errors.Is(err, store.ErrNotFound):
		verb, change, write = "line.add", "new", l.create
	case err != nil:
		return err
	case reflect.DeepEqual(row.Settings.V, line):
		return nil
	}
	l.changed(verb, subject, "%s", change)
	row.Name, row.Title, row.Settings.V = line.Name, line.Title, line
	return write(&row)
}

func (l *loader) site(s estate.Site) error {
	row, err := store.SiteNamed(l.tx.DB, s.Name)
	if errors.Is(err, store.ErrNotFound) {
		l.changed("site.add", "site "+s.Name, "new")
		return l.create(&store.Site{
			Name: s.Name, Title: s.Title, Platform: s.Platform, Address: s.Address,
			StartsPerMinute: s.StartsPerMinute, ClonesPerCopy: s.ClonesPerCopy,
			Deliveries:      store.JSON[estate.Deliveries]{V: s.Deliveries},
			MachineSettings: store.JSON[estate.MachineSettings]{V: s.MachineSettings}, Revision: 1,
		})
	} else if err != nil {
		return err
	}
	var d difference
	set(&d, "title", &row.Title, s.Title)
	set(&d, "address", &row.Address, s.Address)
	set(&d, "starts-per-minute", &row.StartsPerMinute, s.StartsPerMinute)
	set(&d, "clones-per-copy", &row.ClonesPerCopy, s.ClonesPerCopy)
	if !reflect.DeepEqual(row.Deliveries.V, s.Deliveries) {
		d = append(d, "how deliveries go there")
		row.Deliveries.V = s.Deliveries
	}
	if !reflect.DeepEqual(row.MachineSettings.V, s.MachineSettings) {
		d = append(d, "what its machines run on")
		row.MachineSettings.V = s.MachineSettings
	}
	if row.Platform != s.Platform {
		l.problem("site %s is on platform %s: a site keeps its platform", s.Name, row.Platform)
	}
	if len(d) == 0 {
		return nil
	}
	row.Revision++
	l.changed("site.edit", "site "+s.Name, "%s", strings.Join(d, ", "))
	if !l.dry {
		// Perhaps what kept it from answering is mended: it is asked at once.
		if err := store.AskSiteNow(l.tx, row.ID); err != nil {
			return err
		}
	}
	return l.save(&row)
}

func (l *loader) image(i estate.Image) error {
	soak, logs := seconds(i.Clearance.Soak), seconds(i.BuildLogs)
	row, err := store.ImageNamed(l.tx.DB, i.Name)
	if errors.Is(err, store.ErrNotFound) {
		row = store.Image{
			Name: i.Name, Title: i.Title, Numbering: i.Numbering, MachineClass: i.MachineClass,
			Testers: *i.Clearance.Testers, SoakSeconds: soak, Copies: *i.Clearance.Copies,
			LogSeconds: logs, RollPilot: i.RollPilot, Revision: 1,
			KeepApplications: i.Clearance.KeepApplications, NoDowngrades: i.Clearance.NoDowngrades,
			NoSeriousFlaws: i.Clearance.NoSeriousFlaws, Independent: i.Clearance.Independent,
			FixedCopies: i.Copies, FixedCopiesAt: store.JSON[map[string]int]{V: i.CopiesAt},
		}
		if i.Retention != nil {
			row.Retention.V = *i.Retention
		}
		if err := l.create(&row); err != nil {
			return err
		}
		for n, t := range i.Tracks {
			if err := l.create(&store.Track{ImageID: row.ID, Name: t, Position: n}); err != nil {
				return err
			}
		}
		l.changed("image.add", "image "+i.Name, "new, with tracks %s", strings.Join(i.Tracks, ", "))
		return nil
	} else if err != nil {
		return err
	}
	tracks, err := store.Tracks(l.tx.DB, row.ID)
	if err != nil {
		return err
	}
	var have []string
	for _, t := range tracks {
		have = append(have, t.Name)
	}
	if strings.Join(have, ",") != strings.Join(i.Tracks, ",") {
		l.problem("image %s has tracks %s: they stay as they are", i.Name, strings.Join(have, ", "))
	}
	if row.Numbering != i.Numbering {
		l.problem("image %s is numbered %s: an image keeps its numbering", i.Name, row.Numbering)
	}
	if row.MachineClass != i.MachineClass {
		l.problem("image %s is for machine class %s: an image keeps its class", i.Name, row.MachineClass)
	}
	var d difference
	set(&d, "title", &row.Title, i.Title)
	set(&d, "testers", &row.Testers, *i.Clearance.Testers)
	set(&d, "soak in seconds", &row.SoakSeconds, soak)
	set(&d, "copies that clearance asks for", &row.Copies, *i.Clearance.Copies)
	set(&d, "copies", &row.FixedCopies, i.Copies)
	if !maps.Equal(row.FixedCopiesAt.V, i.CopiesAt) {
		d = append(d, "copies at some sites")
		row.FixedCopiesAt.V = i.CopiesAt
	}
	set(&d, "no application may be missing", &row.KeepApplications, i.Clearance.KeepApplications)
	set(&d, "no software may be older", &row.NoDowngrades, i.Clearance.NoDowngrades)
	set(&d, "no serious known flaw may be new", &row.NoSeriousFlaws, i.Clearance.NoSeriousFlaws)
	set(&d, "independent testers", &row.Independent, i.Clearance.Independent)
	set(&d, "seconds that build logs are kept", &row.LogSeconds, logs)
	set(&d, "pilot pools rolled over when a build stages", &row.RollPilot, i.RollPilot)
	tidy := i.Retention != nil && !row.Retention.V.Same(*i.Retention)
	if tidy {
		all, err := versions.Retention(l.tx.DB, row, *i.Retention, l.tx.Now)
		if err != nil {
			return err
		}
		text := "keeps " + i.Retention.String()
		if going := versions.Going(all); len(going) > 0 {
			text += ", so that " + english.WordSeries(going, "and") + english.PluralWord(len(going), " is", " are") +
				" retired"
		}
		d = append(d, text)
		row.Retention.V = *i.Retention
	}
	if len(d) == 0 {
		return nil
	}
	row.Revision++
	l.changed("image.edit", "image "+i.Name, "%s", strings.Join(d, ", "))
	if err := l.save(&row); err != nil || l.dry {
		return err
	}
	if err := store.ForgetCopyPlans(l.tx, row.ID); err != nil || !tidy {
		return err
	}
	return l.tx.LookForVersionsToRetire(row.ID, l.tx.Now)
}

func (l *loader) pool(p estate.Pool) error {
	// In a dry run the file's own sites and images are not there yet.
	site, err := store.SiteNamed(l.tx.DB, p.Site)
	if err != nil && !(l.dry && errors.Is(err, store.ErrNotFound)) {
		return err
	}
	img, err := store.ImageNamed(l.tx.DB, p.Image)
	if err != nil && !(l.dry && errors.Is(err, store.ErrNotFound)) {
		return err
	}
	row, err := store.PoolNamed(l.tx.DB, p.Name)
	if errors.Is(err, store.ErrNotFound) {
		taken, err := store.PrefixTaken(l.tx.DB, p.HostPrefix)
		if err != nil {
			return err
		}
		if taken {
			l.problem("pool %s: host prefix %s is another pool's", p.Name, p.HostPrefix)
			return nil
		}
		row = store.Pool{
			Name: p.Name, Title: p.Title, SiteID: site.ID, ImageID: img.ID, Track: p.Track,
			HostCount: p.Hosts, HostPrefix: p.HostPrefix, SeatsPerHost: p.SeatsPerHost, MachineClass: p.MachineClass,
			Revision: 1,
		}
		if err := l.create(&row); err != nil {
			return err
		}
		l.changed("pool.add", "pool "+p.Name, "new, with %s following %s of %s", english.Plural(p.Hosts, "host", ""),
			p.Track, p.Image)
		return l.hosts(row, 0)
	} else if err != nil {
		return err
	}
	if row.SiteID != site.ID || row.ImageID != img.ID || row.HostPrefix != p.HostPrefix {
		l.problem("pool %s: site, image and host prefix of a pool stay as they are: make a new pool instead", p.Name)
		return nil
	}
	if p.Hosts < row.HostCount {
		l.problem("pool %s has %s: it can grow, and does not shrink", p.Name, english.Plural(row.HostCount, "host", ""))
		return nil
	}
	had := row.HostCount
	var d difference
	set(&d, "title", &row.Title, p.Title)
	set(&d, "track", &row.Track, p.Track)
	set(&d, "hosts", &row.HostCount, p.Hosts)
	set(&d, "seats-per-host", &row.SeatsPerHost, p.SeatsPerHost)
	if len(d) == 0 {
		return nil
	}
	row.Revision++
	l.changed("pool.edit", "pool "+p.Name, "%s", strings.Join(d, ", "))
	if err := l.save(&row); err != nil {
		return err
	}
	return l.hosts(row, had)
}

// hosts adds the hosts that the pool lacks. They have no machine until a rollover makes them one.
func (l *loader) hosts(p store.Pool, had int) error {
	if l.dry {
		return nil
	}
	var hosts []store.Host
	for n := had + 1; n <= p.HostCount; n++ {
		hosts = append(hosts, store.Host{
			Name: estate.HostName(p.HostPrefix, n), PoolID: p.ID, State: host.Off,
			Since: l.tx.Now, Unserved: true, Why: "not built yet: start a rollover of the pool",
		})
	}
	if len(hosts) == 0 {
		return nil
	}
	return l.tx.AddHosts(p.ID, hosts)
}

func seconds(span string) int64 {
	d, _ := time.ParseDuration(span) // Parse has checked it
	return int64(d.Seconds())
}
