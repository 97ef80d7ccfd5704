package secret

import (
	"bytes"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestASecretIsFoundWhereItIsSaidToBe(t *testing.T) {
	t.Parallel()
	environment := map[string]string{
		Prefix + "KEY": "spring tide", Prefix + "SHORT": "1234567", "DATABASE": "postgres://",
	}
	in := In(func(name string) (string, bool) { v, ok := environment[name]; return v, ok }, fstest.MapFS{
		"roster": {Data: []byte("neap tide\n")}, "long": {Data: bytes.Repeat([]byte("x"), Most+1)},
		"lines": {Data: []byte("a\nb\nc\nd\ne\n\n")}, "zero": {Data: []byte("12345678\x00")},
		"most": {Data: bytes.Repeat([]byte("x"), Most)},
	})
	found := func(s Source) string {
		v, err := in(s)
		require.NoError(t, err)
		return v
	}
	require.Equal(t, "spring tide", found(Source{Environment: "KEY"}))
	require.Equal(t, "neap tide", found(Source{File: "roster"}))
	require.Equal(t, "a\nb\nc\nd\ne\n", found(Source{File: "lines"}), "one end of a line belongs to the file")
	require.Len(t, found(Source{File: "most"}), Most)
	for want, s := range map[string]Source{
		"the service's environment has no NIMBLEPANE_SECRET_DATABASE":           {Environment: "DATABASE"},
		"the variable NIMBLEPANE_SECRET_SHORT has a value of 7 bytes: a secret": {Environment: "SHORT"},
		"the service's folder of secrets has no file tide":                      {File: "tide"},
		"the file long has a value of 16385 bytes: a secret has 8 to 16384":     {File: "long"},
		"the file zero has a value of 9 bytes":                                  {File: "zero"},
		"the service's folder of secrets has no file ../x":                      {File: "../x"},
	} {
		_, err := in(s)
		require.ErrorContains(t, err, want)
		require.NotContains(t, err.Error(), "1234567")
	}
	_, err := In(nil, nil)(Source{File: "roster"})
	require.ErrorContains(t, err, "start it with --secrets FOLDER")
}

func TestWhatIsSecretIsNotSeen(t *testing.T) {
	t.Parallel()
	v := Values{"key": "spring tide", "longer": "the spring tide", "lines": "first line\nsecond line\nx"}
	require.Equal(t, "a [secret key], [secret longer] and [secret key]",
		v.Hide("a spring tide, the spring tide and spring tide"))
	require.Equal(t, "[secret lines] then [secret lines] x", v.Hide("first line then second line x"))
	require.Equal(t, "[secret lines]", v.Hide("first line\nsecond line\nx"))
	require.Equal(t, "spring  tide", v.Hide("spring  tide"))
	require.Equal(t, "nothing", Values(nil).Hide("nothing"))
	require.Equal(t, len("first line\nsecond line\nx"), v.Longest())
	require.Zero(t, Values{}.Longest())
}

func TestNoValueIsCutInTwo(t *testing.T) {
	t.Parallel()
	v := Values{"key": "spring tide"}
	text := []byte("xx spring tide yy")
	for n := 1; n <= len(text); n++ {
		want := n
		if n > 3 && n < 14 {
			want = 3
		}
		require.Equal(t, want, v.Cut(text, n), n)
	}
	require.Equal(t, 11, v.Cut([]byte("spring tide and on"), 5))
	require.Equal(t, 5, Values{}.Cut(text, 5))
}

func TestHoweverATextIsCutNothingIsSeen(t *testing.T) {
	t.Parallel()
	v := Values{"a": "abababab", "b": "babababac", "c": "ccccccccc"}
	rapid.Check(t, func(t *rapid.T) {
		text := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{
			"abababab", "babababac", "ccccccccc", "x", "a", "b", "c",
		}), 0, 30).Draw(t, "text"), "")
		seen := ""
		for rest := []byte(text); len(rest) > 0; {
			n := v.Cut(rest, min(len(rest), rapid.IntRange(1, 20).Draw(t, "at")))
			require.Positive(t, n)
			seen += v.Hide(string(rest[:n]))
			rest = rest[n:]
		}
		for _, value := range v {
			require.NotContains(t, seen, value)
		}
	})
}

func TestTheEndOfATextShowsNoPartOfAValue(t *testing.T) {
	t.Parallel()
	values := Values{"tide": "high-water-at-noon", "two": "first line of it\nsecond line of it"}
	text := strings.Repeat("x", 50) + "high-water-at-noon" + strings.Repeat("y",
		20) + "first line of it\nsecond line of it" + "z"
	for n := range len(text) + 5 {
		tail := values.Tail(text, n)
		for _, value := range []string{"high-water-at-noon", "first line of it", "second line of it"} {
			for i := range len(value) - 3 {
				require.NotContains(t, tail, value[i:i+4], "%d bytes", n)
			}
		}
	}
	require.Equal(t, "short", values.Tail("short", 100))
	require.Equal(t, "yz", values.Tail("xyz", 2))
}
