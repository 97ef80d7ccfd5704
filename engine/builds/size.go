package builds

import (
	"errors"
	"time"

	"gorm.io/gorm"

	"nimblepane/core/build"
	"nimblepane/store"
)

// Sizes says what the last builds of an image have come to, by the size of their machines.
func Sizes(db *gorm.DB, imageID int64) ([]build.Advice, error) {
	ready, err := store.ReadyBuilds(db, imageID)
	if err != nil {
		return nil, err
	}
	var tried []build.Tried
	for _, b := range ready {
		m, err := store.MachineOfBuild(db, b.ID)
		if errors.Is(err, store.ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		works, err := store.BuildWorks(db, b.ID)
		if err != nil {
			return nil, err
		}
		t := build.Tried{
			Size: build.Size{Class: m.MachineClass, Cores: m.Cores, Memory: m.Memory}, Took: b.EndedAt.Sub(b.StartedAt),
			Ran: time.Duration(m.RanSeconds) * time.Second,
		}
		for _, s := range StepsOf(b, works) {
			u := s.Done.Used
			if u.Cores == 0 {
				continue // it was not measured, as restarts are not
			}
			t.Stepped += s.Took()
			t.CPU += time.Duration(u.CPUSeconds * float64(time.Second))
			t.HasCores, t.HasMemory = max(t.HasCores, u.Cores), max(t.HasMemory, u.Of)
			t.Memory = max(t.Memory, u.Memory)
		}
		tried = append(tried, t)
	}
	return build.Advise(tried), nil
}
