package world

import (
	"math"
	"time"

	"nimblepane/platform"
)

// A delivery is played by what is in disks: a site that has another version of
// an image lacks what was changed since, and what stands with it in the same
// blocks. Sending a whole disk takes as long as the site's knob says, if the
// service allows as much.

// carriage is how a delivery stands that is played.
type carriage struct {
	Span    time.Duration `json:"span"`    // of a whole disk
	Moved   time.Time     `json:"moved"`   // when it got on last
	Checked time.Time     `json:"checked"` // when it began to be read back
}

const (
	gatherShare = 0.05 // of the time of a whole disk
	checkShare  = 0.10
	packedShare = 0.45 // of what is sent, when it is packed
	alwaysShare = 0.004
	// blockShare is how much more of a disk is in the blocks that a change touches than in what is changed.
	blockShare = 1.5
)

func (a act) beginDelivery(d platform.Deliver) (time.Duration, error) {
	whole := int64(6 << 30) // of a base, whose disk is not played
	if d.Source != platform.OfService {
		disk, ok := a.state.Disks[d.Disk]
		if !ok {
			return 0, refuse("there is no disk %q", d.Disk)
		}
		whole = disk.Size
	}
	k := a.at.Spec.Knobs
	a.Carriage = &carriage{Span: a.vary(k.Deliver, k.Spread), Moved: a.now}
	lacking := a.lacking(d, whole)
	a.Progress.Transfer = &platform.Transfer{
		Stage: platform.Gathering, Whole: whole, There: whole - lacking, Lacking: lacking,
	}
	return 0, nil
}

// lacking is how much of a disk a site does not have in its copies, in bytes.
func (a act) lacking(d platform.Deliver, whole int64) int64 {
	if d.Source == a.Site {
		return 0 // the disk is there
	}
	for _, c := range d.Same {
		if have, ok := a.at.Copies[c]; ok && have.Digest == d.Digest {
			return 0
		}
	}
	least := 1.0
	wanted := a.state.Contents[d.Digest]
	for _, c := range d.Beside {
		have, ok := a.at.Copies[c]
		if !ok {
			continue
		}
		share := 0.04 // where what is in them is not known
		if there := a.state.Contents[have.Digest]; len(wanted) > 0 && len(there) > 0 {
			changed := 0
			for name, version := range wanted {
				if there[name] != version {
					changed++
				}
			}
			share = alwaysShare + blockShare*float64(changed)/float64(len(wanted))
		}
		least = min(least, share)
	}
	return int64(float64(whole) * least)
}

// carry has a delivery get on, and says whether it is done.
func (a act) carry() bool {
	c, t := a.Carriage, a.Progress.Transfer
	span := a.now.Sub(c.Moved)
	c.Moved = a.now
	part := func(share float64) time.Duration { return time.Duration(share * float64(c.Span)) }
	switch t.Stage {
	case platform.Gathering:
		if done := a.now.Sub(a.Began); done < part(gatherShare) {
			t.StagePercent = int(100 * done / part(gatherShare))
			break
		}
		t.Stage, t.StagePercent = platform.Sending, 0
	case platform.Sending:
		speed := math.Inf(1) // over the line, in bytes a second
		if c.Span > 0 {
			speed = packedShare * float64(t.Whole) / part(1-gatherShare-checkShare).Seconds()
		}
		if a.Rate > 0 {
			speed = min(speed, float64(a.Rate))
		}
		all := packedShare * float64(t.Lacking)
		line := all
		if !math.IsInf(speed, 1) {
			line = min(all, float64(t.Line)+speed*span.Seconds())
		}
		t.Line = int64(line)
		if t.Sent = int64(line / packedShare); line >= all {
			t.Line, t.Sent = int64(all), t.Lacking
			t.Stage, c.Checked = platform.Checking, a.now
		}
	case platform.Checking:
		done := a.now.Sub(c.Checked)
		if done >= part(checkShare) {
			t.StagePercent = 100
			return true
		}
		t.StagePercent = int(100 * done / part(checkShare))
	}
	a.Progress.Percent = t.Percent()
	return false
}

// allow says how much a delivery may send a second.
func (w *World) allow(key string, rate int64) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	o, ok := w.state.Operations[key]
	if !ok {
		return platform.ErrUnknown
	}
	if rate < 0 || o.Carriage == nil {
		return refuse("operation %s sends nothing, or %d bytes a second are none", key, rate)
	}
	o.Rate, w.dirty = rate, true
	return nil
}
