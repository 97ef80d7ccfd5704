package builds

import (
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/core/matter"
	"nimblepane/engine"
	"nimblepane/store"
)

// matters are the builds that go on, and those that failed and were not begun again.
func matters(db *gorm.DB, _ time.Time, add func(engine.Matter)) error {
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
		if b.State.Ended() && !b.Settled {
			m.Detail = strings.TrimSuffix("its machine "+b.Machine()+" is not discarded yet; "+b.Why, "; ")
		}
		add(m)
	}
	return nil
}
