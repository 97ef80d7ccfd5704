package strict

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

type shape struct {
	Days   int            `json:"days"`
	Within time.Duration  `json:"within"`
	Names  []string       `json:"names"`
	Part   *shape         `json:"part"`
	Any    map[string]any `json:"any"`
}

func TestWhatFitsIsRead(t *testing.T) {
	t.Parallel()
	var s shape
	require.NoError(t, Unmarshal([]byte(`{"days": 3, "within": 1000000000, "names": ["Tóve", "\ud83d\ude00"], "part": {"days": 4}, "any": {"Days": [1, {"x": null}]}}`), &s))
	require.Equal(t, 3, s.Days)
	require.Equal(t, time.Second, s.Within)
	require.Equal(t, 4, s.Part.Days)
	var v any
	require.NoError(t, Unmarshal([]byte(`[1]`), &v))
	require.Equal(t, []any{1.0}, v)
}

func TestWhatDoesNotFitIsRefusedWithWhere(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`{"days": 1, "Days": 36500}`:          `no field "/Days"`,
		`{"days": 1, "days": 2}`:              `the name "/days" stands there twice`,
		`{"part": {"any": {"a": 1, "a": 2}}}`: `"/part/any/a" stands there twice`,
		`{"days": "secret-word"}`:             `at "/days" a JSON string does not fit`,
		`{"days": 1.5}`:                       `at "/days" a JSON number does not fit`,
		`{"days": 99999999999999999999}`:      `at "/days" a JSON number does not fit`,
		`{"names": ["a\u0000b"]}`:             `"/names/0" holds a NUL`,
		`{"any": {"\u0000": 1}}`:              `holds a NUL`,
		"{\"names\": [\"\xff\"]}":             `invalid UTF-8`,
		`{"names": ["\ud800"]}`:               `at "/names/0"`,
		`{"days": 1} {"days": 2}`:             `after top-level value`,
		`{`:                                   `unexpected end`,
		``:                                    `unexpected end`,
		strings.Repeat("[", 1<<16):            `nested deeper than 32`,
		strings.Repeat(`{"part":`, 40) + `{}` + strings.Repeat("}", 40): `nested deeper than 32`,
	} {
		var s shape
		err := Unmarshal([]byte(text), &s)
		require.ErrorContains(t, err, want, "%.60s", text)
		require.NotContains(t, err.Error(), "secret-word")
	}
}

func TestDepthIsCountedToTheLast(t *testing.T) {
	t.Parallel()
	var v any
	require.NoError(t, Unmarshal([]byte(strings.Repeat("[", Depth)+strings.Repeat("]", Depth)), &v))
	require.ErrorContains(t, Unmarshal([]byte(strings.Repeat("[", Depth+1)+strings.Repeat("]", Depth+1)), &v),
		"nested deeper than 32")
	// Many beside each other are not deep, and the last of them can be one too deep.
	beside := strings.Repeat("[", Depth-1) + strings.Repeat("[],", Depth) + "%s" + strings.Repeat("]", Depth-1)
	require.NoError(t, Unmarshal(fmt.Appendf(nil, beside, "[]"), &v))
	require.ErrorContains(t, Unmarshal(fmt.Appendf(nil, beside, "[[]]"), &v), "nested deeper than 32")
	require.ErrorContains(t, Unmarshal(fmt.Appendf(nil, beside, "[}"), &v), "invalid character '}'")
	for _, early := range []string{`{"days"`, `{"days":`, `[1,`, `"a`, `tru`, ` `} {
		require.ErrorContains(t, Unmarshal([]byte(early), &v), "the text ends too early", early)
	}
}
