// Package kinds names the platforms that ship with Nimble Pane.
package kinds

import (
	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/libvirt"
	"nimblepane/platform/practice"
)

// All are their openers by name.
func All() map[string]platform.Opener {
	return map[string]platform.Opener{estate.Practice: practice.Open, estate.Libvirt: libvirt.Open}
}
