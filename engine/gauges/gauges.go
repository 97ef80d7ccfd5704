// Package gauges exports the state of the estate to Prometheus: hosts, seats, sessions, rollovers, builds, deliveries
// and known vulnerabilities. Each scrape reads the database, so that all processes of the service export the same
// values. Aggregate them with max.
package gauges

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"gorm.io/gorm"

	"nimblepane/core/host"
	"nimblepane/engine"
	"nimblepane/store"
)

// patience is how long the database may take to answer.
const patience = 5 * time.Second

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("nimblepane_"+name, help, labels, nil)
}

var (
	buildInfo       = described("build_info", "1, with the version of the service.", "version")
	databaseUp      = described("database_up", "Whether the database answers.")
	connections     = described("database_connections", "Connections to the database, by state.", "state")
	connectionsMax  = described("database_connections_max", "Connections to the database that the process may have.")
	connectionWaits = described("database_connection_waits_total", "Times that no connection was free.")

	hosts     = described("hosts", "Hosts, by state.", "pool", "state")
	drifting  = described("hosts_drifting", "Hosts that run another version than they should.", "pool")
	sessions  = described("sessions", "Sessions of users.", "pool")
	seats     = described("seats", "Seats on hosts that take sessions.", "pool")
	seatsFree = described("seats_free", "Free seats on hosts that take sessions.", "pool")
	rollovers = described("rollovers", "Open rollovers, by state.", "pool", "state")
	builds    = described("builds", "Builds that have not ended, by state.", "image", "state")
	copies    = described("copies", "Copies of versions, by state. The state delivering counts deliveries in progress.",
		"site", "state")
	siteUp          = described("site_up", "Whether the site's platform answers.", "site")
	vulnerabilities = described("vulnerabilities", "Known vulnerabilities of versions that are used, by severity.",
		"image", "version", "severity")
	items = described("action_items", "What waits for a person, by urgency.", "urgent")
)

// Collector reads the figures. It is a prometheus.Collector.
type Collector struct {
	engine  *engine.Engine
	version string
}

// Of returns the collector of an engine.
func Of(e *engine.Engine, version string) *Collector { return &Collector{e, version} }

// Describe is Prometheus's.
func (c *Collector) Describe(out chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{
		buildInfo, databaseUp, connections, connectionsMax, connectionWaits, hosts, drifting, sessions, seats,
		seatsFree,
		rollovers, builds, copies, siteUp, vulnerabilities, items,
	} {
		out <- d
	}
}

// figures are gauges that were read.
type figures []prometheus.Metric

func (f *figures) add(d *prometheus.Desc, value int, labels ...string) {
	*f = append(*f, prometheus.MustNewConstMetric(d, prometheus.GaugeValue, float64(value), labels...))
}

// Collect is Prometheus's. Without a database it tells so, and nothing of the estate.
func (c *Collector) Collect(out chan<- prometheus.Metric) {
	var of figures
	of.add(buildInfo, 1, c.version)
	pool := c.engine.Store.Pool.Stat()
	of.add(connections, int(pool.AcquiredConns()), "acquired")
	of.add(connections, int(pool.IdleConns()), "idle")
	of.add(connectionsMax, int(pool.MaxConns()))
	out <- prometheus.MustNewConstMetric(connectionWaits, prometheus.CounterValue, float64(pool.EmptyAcquireCount()))

	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	var estate figures
	if err := c.read(ctx, &estate); err != nil {
		of.add(databaseUp, 0)
		estate = nil
	} else {
		of.add(databaseUp, 1)
	}
	for _, m := range append(of, estate...) {
		out <- m
	}
}

func (c *Collector) read(ctx context.Context, f *figures) error {
	db := c.engine.Store.DB.WithContext(ctx)
	if err := pools(db, f); err != nil {
		return err
	}
	if err := work(db, f); err != nil {
		return err
	}
	if err := versions(db, f); err != nil {
		return err
	}
	list, err := c.engine.Today(ctx)
	urgent := 0
	for _, m := range list {
		if m.Urgent {
			urgent++
		}
	}
	f.add(items, urgent, "yes")
	f.add(items, len(list)-urgent, "no")
	return err
}

func pools(db *gorm.DB, f *figures) error {
	all, err := store.Pools(db)
	if err != nil {
		return err
	}
	counts, err := store.HostCounts(db, "")
	for _, p := range all {
		var drift, users, room, free int
		states := map[host.State]int{}
		for _, n := range counts {
			if n.Pool != p.Name {
				continue
			}
			states[n.State] += n.Hosts
			drift += n.Drifting
			users += n.Sessions
			if n.State == host.Serving {
				room += n.Seats
				free += n.Seats - n.Taken
			}
		}
		for _, state := range host.States() {
			f.add(hosts, states[state], p.Name, string(state))
		}
		f.add(drifting, drift, p.Name)
		f.add(sessions, users, p.Name)
		f.add(seats, room, p.Name)
		f.add(seatsFree, free, p.Name)
	}
	return err
}

func work(db *gorm.DB, f *figures) error {
	open, err := store.RolloverCounts(db)
	if err != nil {
		return err
	}
	for _, n := range open {
		f.add(rollovers, n.Rollovers, n.Pool, string(n.State))
	}
	running, err := store.BuildCounts(db)
	for _, n := range running {
		f.add(builds, n.Builds, n.Image, string(n.State))
	}
	return err
}

func versions(db *gorm.DB, f *figures) error {
	there, err := store.CopyCounts(db)
	if err != nil {
		return err
	}
	for _, n := range there {
		f.add(copies, n.Copies, n.Site, string(n.State))
	}
	found, err := store.FlawCounts(db)
	if err != nil {
		return err
	}
	for _, n := range found {
		f.add(vulnerabilities, n.Flaws, n.Image, n.Version, string(n.Severity))
	}
	sites, err := store.Sites(db)
	for _, s := range sites {
		up := 1
		if s.Failures > 1 { // once is a moment
			up = 0
		}
		f.add(siteUp, up, s.Name)
	}
	return err
}
