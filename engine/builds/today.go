package builds

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/estate"
	"nimblepane/core/machine"
	"nimblepane/core/matter"
	"nimblepane/engine"
	"nimblepane/store"
)

// matters are the builds that go on, and those that failed and were not begun again.
func matters(db *gorm.DB, now time.Time, add func(engine.Matter)) error {
	rows, err := store.BuildRows(db, store.BuildFilter{Notable: true})
	if err != nil {
		return err
	}
	for _, b := range rows {
		m := engine.Matter{
			Kind: matter.Build, Title: fmt.Sprintf("Build %d of %s is %s", b.ID, b.Image, b.State), Detail: b.Why,
			Link: fmt.Sprintf("builds/%d", b.ID), Command: fmt.Sprintf("pane build watch %d", b.ID),
		}
		if b.State == build.Failed {
			m.Command = fmt.Sprintf("pane build show %d", b.ID)
		}
		switch {
		case b.Held(now):
			m.Detail = "its machine " + b.Machine() + " is held until " + minute(*b.HeldUntil) + "; " + b.Why
		case b.State.Ended() && !b.Settled:
			m.Detail = strings.TrimSuffix("its machine "+b.Machine()+" is not discarded yet; "+b.Why, "; ")
		}
		add(m)
	}
	return nil
}

// machineMatters are the machines that run for longer than one may, that will
// be discarded because nobody touches them, and those to which something could not be done.
func machineMatters(db *gorm.DB, now time.Time, add func(engine.Matter)) error {
	w, err := store.Workshop(db)
	if err != nil {
		return err
	}
	rows, err := store.MachineRows(db, store.MachineFilter{})
	if err != nil {
		return err
	}
	for _, m := range rows {
		d := machine.Decide(w.Policy(), m.Known(), now)
		tell := func(command, title, detail string) {
			matter := engine.Matter{
				Kind: matter.Machine, Title: "Build machine " + m.Name + " at " + m.Site + " " + title, Detail: detail,
				Link: "build-machines", Command: command,
			}
			if m.BuildID != nil {
				matter.Link = fmt.Sprintf("builds/%d", *m.BuildID)
			}
			add(matter)
		}
		of := "it is " + cmp.Or(m.Owner, "nobody") + "'s"
		if m.Purpose != "" {
			of += ", for " + m.Purpose
		}
		if m.State == machine.Waiting && m.FromHost != "" {
			h, err := store.HostRowNamed(db, m.FromHost)
			if err == nil {
				tell("pane host show "+h.Name, "waits for host "+h.Name+" to be empty", fmt.Sprintf("%s is %s, with "+
					"%s on it; %s", h.Name, h.State, english.Plural(h.Sessions, "session", ""), of))
			}
		}
		if d.TooLong {
			command := "pane build-machine stop " + m.Site + " " + m.Name
			if m.BuildID != nil {
				command = fmt.Sprintf("pane build show %d", *m.BuildID)
			}
			tell(command, fmt.Sprintf("has run for %s, longer than the %s that one may",
				estate.Span(now.Sub(*m.StartedAt).Truncate(time.Minute)), w.Longest), of)
		}
		if m.Notices > 0 {
			tell("pane build-machine keep "+m.Site+" "+m.Name, "is discarded on "+minute(d.At),
				"nobody has touched it since "+minute(m.TouchedAt)+"; "+of)
		}
		if m.Why != "" && m.BuildID == nil {
			tell("pane build-machine show "+m.Site+" "+m.Name, "is "+string(m.State), m.Why)
		}
	}
	return nil
}
