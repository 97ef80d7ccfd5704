package world

import "time"

// Clock is how time passes in a world: it showed Shows at the real time At and
// runs Rate times as fast as the real one since.
type Clock struct {
	Shows time.Time `json:"shows"`
	At    time.Time `json:"at"`
	Rate  float64   `json:"rate"`
}

// Now returns what the clock shows at the real time.
func (c Clock) Now(real time.Time) time.Time {
	return c.Shows.Add(time.Duration(float64(real.Sub(c.At)) * c.Rate)).UTC()
}

// Forward returns a clock that goes on from later.
func (c Clock) Forward(by time.Duration) Clock {
	c.Shows = c.Shows.Add(by)
	return c
}

// Set returns a clock that goes on from here at another rate.
func (c Clock) Set(rate float64, real time.Time) Clock {
	return Clock{Shows: c.Now(real), At: real, Rate: rate}
}
