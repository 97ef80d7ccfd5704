package repositories

import "time"

// HavePatience says how long a repository may say nothing that is asked for its branches.
func (rs *Repositories) HavePatience(d time.Duration) { rs.patience.Store(int64(d)) }
