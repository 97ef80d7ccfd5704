package strict_test

import (
	"encoding/json"
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/strict"
)

func TestWhyATextIsNoJSONIsSaidInPlainWords(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`{"size": "x"}`: "size has to be a whole number, and is a text", `{"size": 1.5}`: "size has to be a whole number, and is a number",
		`{"name": 3}`: "name has to be a text, and is a number", `{"list": {}}`: "list has to be a list, and is an object",
		`{"in": {"on": "x"}}`: "in.on has to be true or false, and is a text", `[]`: "it has to be an object, and is a list",
		`{"name": `: "it ends too early", ``: "it ends too early", `{"name": x}`: "it is no JSON: byte 10 does not belong there",
	} {
		var into struct {
			Size int      `json:"size"`
			Name string   `json:"name"`
			List []string `json:"list"`
			In   struct {
				On bool `json:"on"`
			} `json:"in"`
		}
		require.EqualError(t, strict.JSON(json.Unmarshal([]byte(text), &into)), want, text)
	}
	other := errors.New("other")
	require.Equal(t, other, strict.JSON(other))
	require.NoError(t, strict.JSON(nil))
}
