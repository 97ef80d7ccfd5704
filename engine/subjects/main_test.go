package subjects_test

import (
	"flag"
	"testing"

	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) {
	// A check of a property here takes half a second of database work. A flag of the command line wins.
	_ = flag.Set("rapid.checks", "30")
	storetest.Main(m)
}
