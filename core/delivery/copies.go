package delivery

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
)

// MostCopies is how many copies of a version a site is given at most.
const MostCopies = 100

// Taking is how a pool's hosts are taken to another version.
type Taking struct {
	Pool      string
	Batch     int // hosts that are taken together
	PerMinute int // that may be started
}

// Seen is how long something took of late.
type Seen struct {
	Time time.Duration // in the middle
	Of   int           // how many times; 0: it was never seen
}

// Cloning is what clones are made of a version's copies at a site.
type Cloning struct {
	Takings       []Taking // one for each pool of the image there
	ClonesPerCopy int
	Clone         Seen
}

// Proposal is how many copies a site is to have, and why, in words.
type Proposal struct {
	Copies int
	Why    string
}

// Propose says how many copies are enough for no host to wait for one: of a
// batch as many hosts are cloned at a time as begin while one is cloned, and so
// many can be cloned from a copy. More would only take room.
func (c Cloning) Propose() Proposal {
	if len(c.Takings) == 0 {
		return Proposal{1, "no pool of the image is here"}
	}
	var most Taking
	atOnce, starts := 0, 0
	for _, t := range c.Takings {
		n, begin := t.Batch, 0
		if c.Clone.Of > 0 {
			begin = max(1, int(math.Ceil(float64(t.PerMinute)*c.Clone.Time.Minutes())))
			n = min(n, begin)
		}
		if n > atOnce {
			atOnce, starts, most = n, begin, t
		}
	}
	copies := min(MostCopies, (atOnce+c.ClonesPerCopy-1)/c.ClonesPerCopy)
	var why strings.Builder
	fmt.Fprintf(&why, "pool %s takes %s together", most.Pool, english.Plural(most.Batch, "host", ""))
	switch {
	case c.Clone.Of == 0:
		why.WriteString("; how long a clone takes here was not seen yet")
	case starts < most.Batch:
		fmt.Fprintf(&why, ", of which %d a minute begin; a clone takes %s, so %s cloned at a time", most.PerMinute,
			About(c.Clone.Time), english.Plural(atOnce, "is", "are"))
	}
	fmt.Fprintf(&why, "; %d can be cloned from a copy at a time", c.ClonesPerCopy)
	return Proposal{copies, why.String()}
}

// vary is by which part clone times change from one day to the next without anything having changed.
const vary = 0.2

// ProposeAfter is Propose where a site is to have so many copies until now. It is given fewer only if that is not just
// how clone times vary: a copy that went has to travel again when they are longer the next day.
func (c Cloning) ProposeAfter(before int) Proposal {
	p, longer := c.Propose(), c
	longer.Clone.Time += time.Duration(vary * float64(c.Clone.Time))
	if p.Copies < before && longer.Propose().Copies >= before {
		p.Copies = before
		p.Why += fmt.Sprintf("; it stays at %d, as clone times vary", before)
	}
	return p
}

// About says a length of time as people do: "about 40 s", "about 12 min", "about 2 h 30 min".
func About(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return "a few seconds"
	case d < 90*time.Second:
		return fmt.Sprintf("about %d s", int(d.Round(10*time.Second).Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("about %d min", int(d.Round(time.Minute).Minutes()))
	}
	d = d.Round(10 * time.Minute)
	if d >= 48*time.Hour {
		return fmt.Sprintf("about %d days", int(math.Round(d.Hours()/24)))
	}
	text := fmt.Sprintf("about %d h", int(d.Hours()))
	if m := int(d.Minutes()) % 60; m > 0 {
		text += fmt.Sprintf(" %d min", m)
	}
	return text
}
