package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestNoCellOfCSVIsAFormula(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	a := &app{out: &out, output: "csv"}
	texts := []string{"=1+1", "+cmd|' /C calc'!A0", "-2+3", "@sum(A1)", "\t=1", "-", "-5", "+7.5", "tides", "a=b"}
	require.NoError(t, list(a, texts, "", column[string]{"Text", func(s string) string { return s }}))
	require.Equal(t, "text\n'=1+1\n'+cmd|' /C calc'!A0\n'-2+3\n'@sum(A1)\n'\t=1\n-\n-5\n+7.5\ntides\na=b\n",
		out.String())
}
