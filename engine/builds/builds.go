// Package builds makes build machines on the platforms that can, and does to
// them what people ask for. Versions are captured from them.
package builds

import "nimblepane/engine"

// Builds are the acts on build machines. They are safe for concurrent use.
type Builds struct{ engine *engine.Engine }

// New returns the acts on build machines of the engine's sites.
func New(e *engine.Engine) *Builds { return &Builds{e} }
