package gauges_test

import (
	"testing"

	"nimblepane/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }
