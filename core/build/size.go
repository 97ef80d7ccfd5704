package build

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"github.com/dustin/go-humanize"
)

// Size is what a build machine is: its class, and what it was given of cores and memory, 0 for what its class has.
type Size struct {
	Class  string
	Cores  int
	Memory int64 // in bytes
}

// Tried is what a build came to that became ready, on a machine of a size.
type Tried struct {
	Size
	Took    time.Duration // from its start until it was ready
	Ran     time.Duration // its machine
	Stepped time.Duration // while its steps were done
	CPU     time.Duration // that its steps took, of all cores together; 0 if that was not measured
	Memory  int64         // that was in use at most, in bytes; 0 if that was not measured
	// What the machine had.
	HasCores  int
	HasMemory int64
}

// Advice is what builds have come to on machines of one size, and what follows from that.
type Advice struct {
	Size
	Builds    int
	Took, Ran time.Duration // the median
	Cores     float64       // in use on average while steps were done, in the build that used most
	Memory    int64         // in use at most, in bytes
	HasCores  int
	HasMemory int64
	Says      []string
}

// Bounds of what is said of a size.
const (
	nearlyAll = 0.85
	oneThird  = 1.0 / 3
)

// Advise says what builds have come to by the size of their machines, those that took least first.
func Advise(tried []Tried) (all []Advice) {
	bySize := map[Size][]Tried{}
	for _, t := range tried {
		bySize[t.Size] = append(bySize[t.Size], t)
	}
	median := func(of []Tried, what func(Tried) time.Duration) time.Duration {
		list := make([]time.Duration, len(of))
		for i, t := range of {
			list[i] = what(t)
		}
		slices.Sort(list)
		return list[len(list)/2]
	}
	for size, of := range bySize {
		a := Advice{
			Size: size, Builds: len(of), Took: median(of, func(t Tried) time.Duration { return t.Took }),
			Ran: median(of, func(t Tried) time.Duration { return t.Ran }),
		}
		for _, t := range of {
			if t.Stepped > 0 {
				a.Cores = max(a.Cores, t.CPU.Seconds()/t.Stepped.Seconds())
			}
			a.Memory, a.HasCores = max(a.Memory, t.Memory), max(a.HasCores, t.HasCores)
			a.HasMemory = max(a.HasMemory, t.HasMemory)
		}
		a.say()
		all = append(all, a)
	}
	slices.SortFunc(all, func(a, b Advice) int {
		return cmp.Or(cmp.Compare(a.Took, b.Took), cmp.Compare(a.Class, b.Class),
			cmp.Compare(a.Size.Cores, b.Size.Cores), cmp.Compare(a.Size.Memory, b.Size.Memory))
	})
	return all
}

// say adds what follows from what was used, as far as that was measured.
func (a *Advice) say() {
	if a.HasCores > 0 && a.Cores > 0 {
		switch of := a.Cores / float64(a.HasCores); {
		case of > nearlyAll:
			a.Says = append(a.Says, fmt.Sprintf("nearly all of its %d cores were busy: more would make it faster",
				a.HasCores))
		case of < oneThird && a.HasCores > 1:
			a.Says = append(a.Says, fmt.Sprintf("%.1f of its %d cores were busy: fewer would do", a.Cores, a.HasCores))
		}
	}
	if a.HasMemory > 0 && a.Memory > 0 {
		used, has := humanize.IBytes(uint64(a.Memory)), humanize.IBytes(uint64(a.HasMemory))
		switch of := float64(a.Memory) / float64(a.HasMemory); {
		case of > nearlyAll:
			a.Says = append(a.Says, fmt.Sprintf("%s of its %s of memory were in use: give it more", used, has))
		case of < oneThird:
			a.Says = append(a.Says, fmt.Sprintf("%s of its %s of memory were in use at most: half of it would do", used,
				has))
		}
	}
}
