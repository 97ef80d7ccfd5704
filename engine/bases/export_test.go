package bases

import "time"

// HavePatience says how long an address may send nothing.
func (bs *Bases) HavePatience(d time.Duration) { bs.patience.Store(int64(d)) }
