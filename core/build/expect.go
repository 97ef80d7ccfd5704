package build

import (
	"slices"
	"time"
)

// Past is how long a build took that became ready.
type Past struct {
	Sealed time.Duration // until its machine was sealed, which its time limit is for
	Ready  time.Duration
}

// Expectation is what earlier builds say about one.
type Expectation struct {
	Builds        int // earlier ones, from which it is worked out
	Median, Worst time.Duration
	Sealed        time.Duration // at worst
}

// Expect works out what earlier builds say. The median of an even number is the longer of the two in the middle.
func Expect(past []Past) Expectation {
	e := Expectation{Builds: len(past)}
	if e.Builds == 0 {
		return e
	}
	all := make([]time.Duration, len(past))
	for i, p := range past {
		all[i] = p.Ready
		e.Sealed = max(e.Sealed, p.Sealed)
	}
	slices.Sort(all)
	e.Median, e.Worst = all[len(all)/2], all[len(all)-1]
	return e
}

// Tight says whether a time limit is shorter than what builds have come to take.
func (e Expectation) Tight(limit time.Duration) bool { return e.Sealed > limit }
