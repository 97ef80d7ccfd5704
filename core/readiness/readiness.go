// Package readiness says whether an image could be rolled back now, and how
// long that would take.
//
// Going back is only as good as what is there to go back to: a version that may
// be used, and at the site of every pool that follows live a copy of it that
// holds what it held when the version was sealed. Nobody finds out by luck that
// one does not: copies are read again in the background, and what that comes to
// is looked at here, before anybody needs it.
package readiness

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"nimblepane/core/delivery"
	"nimblepane/core/image"
	"nimblepane/core/rollover"
)

const (
	// ReadAgain is how long after a copy was read it is read again.
	ReadAgain = 24 * time.Hour
	// Forgotten is how long after it was read nobody knows any more what is in it.
	Forgotten = 3 * ReadAgain
)

// Copy is a copy of the fallback at a site.
type Copy struct {
	Ordinal int
	State   image.CopyState
	Failure string     // why it did not come, or what is wrong with it
	Read    *time.Time // when it was found intact last
}

// Site is where pools would be taken back.
type Site struct {
	Name          string
	Silent        string // why it does not answer, "" if it does
	PerMinute     int    // hosts that it starts
	ClonesPerCopy int
	Clone         delivery.Seen // from the order to rebuild a host to the end of that
	Host          delivery.Seen // from that order until the host is back in service
	Copies        []Copy        // of the fallback
}

// Pool is one that follows live.
type Pool struct {
	Name      string
	Site      string
	Hosts     int // that would be taken back
	People    int // that are signed in there
	PerMinute int // hosts of it that are started, 0 for as many as the site starts
	Plan      rollover.Plan
}

// Situation is all that is known of an image.
type Situation struct {
	Image    string
	Live     string // the version that would be left, "" if there is none
	Fallback string // the version that it would go back to, "" if there is none
	Unusable string // why that cannot be used, "" if it can
	Sites    []Site // of the pools
	Pools    []Pool
	Now      time.Time
}

// PoolAnswer says how a pool would go back.
type PoolAnswer struct {
	Pool, Site string
	Hosts      int
	Ready      bool
	Why        []string      // it is not ready
	But        []string      // worth knowing if it is
	Takes      time.Duration // how long its hosts take, people apart; 0 if that cannot be said or there are none
	People     string        // what becomes of those who are signed in, in words; "" if nobody is
	// ReadAt is when the copies at its site were read that were read longest ago; nil if there is none.
	ReadAt *time.Time
}

// Answer says whether the image could go back.
type Answer struct {
	To    string // the version to go back to, "" if there is none
	Ready bool
	Why   string        // as a whole: there is nothing to go back to, or it cannot be used
	Takes time.Duration // until every host is back, people apart; 0 if that cannot be said or there is nothing to do
	// Unseen are the sites at which no host was ever seen to come back, so that it may take longer there.
	Unseen []string
	Pools  []PoolAnswer
}

// Judge answers.
func (s Situation) Judge() (a Answer) {
	a.To = s.Fallback
	switch {
	case s.Live == "":
		a.Why = "no version was ever live"
		return a
	case s.Fallback == "":
		a.Why = "there is no version to go back to"
		return a
	case s.Unusable != "":
		a.Why = s.Unusable
		return a
	}
	a.Ready = true
	bySite := map[string]int{}
	for _, p := range s.Pools {
		site := s.site(p.Site)
		o := s.pool(p, site)
		a.Ready = a.Ready && o.Ready
		a.Takes = max(a.Takes, o.Takes)
		a.Pools = append(a.Pools, o)
		bySite[p.Site] += p.Hosts
	}
	// Pools of a site share its copies and starts.
	for _, site := range s.Sites {
		switch n := bySite[site.Name]; {
		case n > 0 && site.Host.Of > 0:
			a.Takes = max(a.Takes, site.span(n, site.PerMinute))
		case n > 0:
			a.Unseen = append(a.Unseen, site.Name)
		}
	}
	return a
}

func (s Situation) site(name string) Site {
	for _, site := range s.Sites {
		if site.Name == name {
			return site
		}
	}
	return Site{Name: name}
}

func (s Situation) pool(p Pool, site Site) PoolAnswer {
	a := PoolAnswer{Pool: p.Name, Site: p.Site, Hosts: p.Hosts}
	no := func(format string, args ...any) { a.Why = append(a.Why, fmt.Sprintf(format, args...)) }
	but := func(format string, args ...any) { a.But = append(a.But, fmt.Sprintf(format, args...)) }
	if site.Silent != "" {
		no("site %s does not answer: %s", site.Name, site.Silent)
	}
	good := 0
	var bad []string
	for _, c := range site.Copies {
		switch {
		case c.State == image.CopyDelivering:
			bad = append(bad, fmt.Sprintf("copy %d at %s is on its way", c.Ordinal, site.Name))
		case c.State == image.CopyFailed:
			bad = append(bad, fmt.Sprintf("copy %d at %s cannot be used: %s", c.Ordinal, site.Name, c.Failure))
		case c.State != image.CopyPresent:
		case c.Read == nil:
			bad = append(bad, fmt.Sprintf("copy %d at %s was not read yet since it came", c.Ordinal, site.Name))
		case s.Now.Sub(*c.Read) > Forgotten:
			bad = append(bad, fmt.Sprintf("copy %d at %s was read last %s", c.Ordinal, site.Name,
				humanize.RelTime(*c.Read, s.Now, "ago", "from now")))
		default:
			good++
		}
		if c.State == image.CopyPresent && c.Read != nil && (a.ReadAt == nil || c.Read.Before(*a.ReadAt)) {
			a.ReadAt = c.Read
		}
	}
	switch {
	case good > 0:
		for _, b := range bad {
			but("%s", b)
		}
	case len(bad) > 0:
		a.Why = append(a.Why, bad...)
	default:
		no("no copy of %s is at %s", s.Fallback, site.Name)
	}
	a.Ready = len(a.Why) == 0
	if p.Hosts == 0 {
		return a
	}
	if a.Takes = site.takes(p); a.Takes == 0 {
		but("no host came back into service at %s yet: how long it takes is not known", site.Name)
	}
	a.People = people(p)
	return a
}

// people says what becomes of those who are signed in.
func people(p Pool) string {
	if p.People == 0 {
		return ""
	}
	are := english.Plural(p.People, "person is", "people are") + " signed in there now"
	switch grace := delivery.About(p.Plan.Grace); {
	case p.Plan.LogOff == rollover.Warn:
		return fmt.Sprintf("%s, and warned; they are signed off %s later", are, grace)
	case p.Plan.Deadline > 0:
		return fmt.Sprintf("%s, and waited for; after %s they are warned, and signed off %s later", are,
			delivery.About(p.Plan.Deadline), grace)
	}
	return are + ", and waited for, however long they stay"
}

// leave is how long people keep a batch waiting at the most, if there is a most.
func (p Pool) leave() time.Duration {
	switch {
	case p.People == 0:
		return 0
	case p.Plan.LogOff == rollover.Warn:
		return p.Plan.Grace
	case p.Plan.Deadline > 0:
		return p.Plan.Deadline + p.Plan.Grace
	}
	return 0
}

// takes is how long a pool's hosts take by themselves, batch after batch; 0 if no host was ever seen to.
func (s Site) takes(p Pool) (all time.Duration) {
	if s.Host.Of == 0 {
		return 0
	}
	perMinute := s.PerMinute
	if p.PerMinute > 0 {
		perMinute = min(perMinute, p.PerMinute)
	}
	batch := max(1, p.Plan.BatchSize)
	for left := p.Hosts; left > 0; left -= batch {
		all += p.leave() + s.span(min(left, batch), perMinute)
		if left > batch {
			all += p.Plan.Observe
		}
	}
	return all
}

// span is how long so many hosts take that are taken together: the last of them begins when those before it have
// been started and what can be cloned at a time lets it.
func (s Site) span(hosts, perMinute int) time.Duration {
	copies := 0
	for _, c := range s.Copies {
		if c.State == image.CopyPresent {
			copies++
		}
	}
	atOnce := max(1, copies*s.ClonesPerCopy)
	byStarts := time.Duration((hosts-1)/max(1, perMinute)) * time.Minute
	byClones := time.Duration((hosts-1)/atOnce) * s.Clone.Time
	return max(byStarts, byClones) + s.Host.Time
}

// Lacks says what keeps which pools from going back: "pools a and b: no copy of 2026.11.1 is at north".
func (a Answer) Lacks() string {
	var whys []string
	pools := map[string][]string{} // by why they cannot
	for _, p := range a.Pools {
		if p.Ready {
			continue
		}
		why := strings.Join(p.Why, "; ")
		if pools[why] == nil {
			whys = append(whys, why)
		}
		pools[why] = append(pools[why], p.Pool)
	}
	for i, why := range whys {
		whys[i] = fmt.Sprintf("%s %s: %s", english.PluralWord(len(pools[why]), "pool", ""),
			english.WordSeries(pools[why], "and"), why)
	}
	return strings.Join(whys, "; ")
}

// Sentence says in one what the answer is.
func (a Answer) Sentence() string {
	if a.Why != "" {
		return "Going back is not possible: " + a.Why + "."
	}
	if !a.Ready {
		return fmt.Sprintf("Going back to %s is not possible everywhere: %s.", a.To, a.Lacks())
	}
	hosts := 0
	for _, p := range a.Pools {
		hosts += p.Hosts
	}
	switch {
	case hosts == 0:
		return fmt.Sprintf("Going back to %s is possible, and no host has to change.", a.To)
	case a.Takes == 0:
		return fmt.Sprintf("Going back to %s is possible for %s; how long it takes was not seen yet.", a.To,
			english.Plural(hosts, "host", ""))
	}
	says := fmt.Sprintf("Going back to %s takes %s for %s, and the time that people take to leave", a.To, a.Span(),
		english.Plural(hosts, "host", ""))
	if len(a.Unseen) > 0 {
		says += "; how long it takes at " + english.WordSeries(a.Unseen, "and") + " was not seen yet"
	}
	return says + "."
}

// Span is how long it takes, in words; "" if that cannot be said.
func (a Answer) Span() string {
	switch {
	case a.Takes == 0:
		return ""
	case len(a.Unseen) > 0:
		return delivery.About(a.Takes) + " or more"
	}
	return delivery.About(a.Takes)
}
