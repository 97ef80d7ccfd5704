package sheet

import (
	"testing"

	"nimblepane/internal/fuzzlimit"
)

func FuzzSheet(f *testing.F) {
	f.Add([]byte(plain))
	for _, c := range hostile() {
		f.Add([]byte(plain + "    when: " + string(c) + "\n"))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		defer fuzzlimit.Check(t)()
		s, err := Parse(text)
		if err != nil {
			return
		}
		if s, err = s.With(nil); err == nil {
			_ = s.Explain()
		}
	})
}
