package fleet

import (
	"fmt"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/host"
	"nimblepane/core/matter"
	"nimblepane/engine"
	"nimblepane/store"
)

// outOfServiceMatters are hosts that are faulty, or that somebody drained.
func outOfServiceMatters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	rows, err := store.HostsOutOfService(db)
	if err != nil {
		return err
	}
	for _, r := range rows {
		what := fmt.Sprintf("%d hosts of %s are", r.N, r.Pool)
		if r.N == 1 {
			what = fmt.Sprintf("Host %s of %s is", r.Name, r.Pool)
		}
		if r.State == host.Faulty {
			detail := r.Name + ": " + r.Why
			if r.N > 1 {
				detail = fmt.Sprintf("%s, and %d more", detail, r.N-1)
			}
			add(engine.Matter{
				Kind: matter.Faulty, Urgent: true, Title: what + " faulty", Detail: detail,
				Link: "pools/" + r.Pool, Command: "pane host list --pool " + r.Pool + " --state faulty",
			})
		} else {
			add(engine.Matter{
				Kind: matter.Drained, Title: what + " drained by hand",
				Detail: "out of service until returned", Link: "pools/" + r.Pool, Command: "pane host return " +
					r.Name,
			})
		}
	}
	return nil
}

// driftMatters are pools that drift, and that no rollover has in hand.
func driftMatters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
	rows, err := store.Drifts(db)
	if err != nil {
		return err
	}
	for _, r := range rows {
		add(engine.Matter{
			Kind: matter.Drift, Title: fmt.Sprintf("%d of %s of %s %s", r.N,
				english.Plural(r.Total, "host", ""), r.Pool, english.PluralWord(r.N, "drifts", "drift")),
			Detail: "they should run " + r.Target, Link: "pools/" + r.Pool, Command: "pane rollover start --pool " +
				r.Pool,
		})
	}
	return nil
}
