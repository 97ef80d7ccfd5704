package estate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/machine"
)

func TestAWorkshopSaysWhatBuildMachinesCost(t *testing.T) {
	t.Parallel()
	f, err := Parse([]byte(good + "workshop:\n  currency: EUR\n  rates: {standard: \"0.12\", graphics: \"1\"}\n" +
		"  left: 1h\n"))
	require.NoError(t, err)
	require.Equal(t, &Workshop{
		Currency: "EUR", Rates: map[string]machine.Rate{"standard": "0.12", "graphics": "1"}, Longest: "12h",
		Left: "1h",
	}, f.Workshop)
	require.Equal(t, machine.Policy{Longest: 12 * time.Hour, Left: time.Hour}, f.Workshop.Policy())
	require.Equal(t, machine.Policy{Longest: 12 * time.Hour, Left: 8 * 24 * time.Hour}, UsualWorkshop.Policy())
	f, err = Parse([]byte(good + "workshop: {}\n"))
	require.NoError(t, err)
	require.Equal(t, UsualWorkshop, *f.Workshop)
	f, err = Parse([]byte(good))
	require.NoError(t, err)
	require.Nil(t, f.Workshop)

	for what, want := range map[string]string{
		"longest: soon":                           `workshop: longest of "soon": write a time in whole seconds`,
		"longest: 59s":                            "such as 12h or 90m, from 1m to 2160h",
		"longest: 2160h0m1s":                      `longest of "2160h0m1s"`,
		"longest: 90500ms":                        `longest of "90500ms"`,
		"left: 59m59s":                            "from 1h to 8760h",
		"left: 8760h0m1s":                         `left of "8760h0m1s"`,
		"currency: Euro":                          `currency "Euro": write its three letters, such as EUR`,
		"rates: {standard: '1'}":                  "the rates have no currency: write currency: EUR above them",
		"currency: EUR, rates: {standard: '1,2'}": `rate of standard: "1,2" is no price`,
		"currency: EUR, rates: {'Big one': '1'}":  "workshop: rates: machine class",
	} {
		_, err := Parse([]byte(good + "workshop: {" + what + "}\n"))
		require.ErrorContains(t, err, want, what)
		require.Len(t, err, 1)
		require.NotZero(t, err.(Problems)[0].Line)
	}
	for _, right := range []string{"longest: 1m, left: 8760h", "longest: 2160h, left: 1h"} {
		_, err := Parse([]byte(good + "workshop: {" + right + "}\n"))
		require.NoError(t, err)
	}
}
