package sheet

import (
	"bytes"
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

func TestTheSchemaTakesWhatIsRightAndMarksWhatThereIsNot(t *testing.T) {
	t.Parallel()
	text, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("sheet.schema.json", text))
	schema, err := c.Compile("sheet.schema.json")
	require.NoError(t, err)
	fits := func(text string) error {
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		require.NoError(t, err)
		doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(asJSON))
		require.NoError(t, err)
		return schema.Validate(doc)
	}
	desk, err := os.ReadFile("../../demo/saltmarsh/counter-desk.yaml")
	require.NoError(t, err)
	digest := strings.Repeat("0a", 32)
	does := func(what string) string { return strings.Replace(plain, "install: {packages: [a]}", what, 1) }
	for _, right := range []string{
		string(desk), string(New()), plain,
		does("script: {text: '#!/x', arguments: [a], environment: {A: b}, as: ida}\n    exit-codes: [0, 3]"),
		does("fetch: {from: 'https://x/y', sha256: " + digest + ", to: /x, owner: ida, mode: '0600'}"),
		does("update: {only: security, restart: false}"), does("update: {}"),
		does("locale: {keyboard: fr}"), does("settings: {home: {a: b}, environment: {A: b}}"),
		does("restart: {}\n    when: site == 'b'\n    on-failure: {do: again, times: 2, pause: 1m}"),
		"secrets: {tide: {file: a}, key: {environment: KEY}}\n" + does("script: {text: '#!/x', secrets: {A: tide}}"),
		plain + "parameters: {a: {type: number, default: 5, allowed: [5, 6], sites: {b: 6}, about: seats}}\n" +
			"seal-checks: {waive: {leftovers: x}}\ntime-limit: 3h\n",
	} {
		_, err := Parse([]byte(right))
		require.NoError(t, err)
		require.NoError(t, fits(right), right)
	}
	for _, wrong := range []string{
		strings.Replace(plain, "image: desk\n", "", 1), strings.Replace(plain, "track: live", "trak: live", 1),
		strings.Replace(plain, "track: live", "track: live, disk: x", 1), strings.Replace(plain, "site:", "place:", 1),
		does("time-limit: 5m"), does("restart: {}\n    remove: {packages: [a]}"), does("update: {only: some}"),
		does("restart: {}\n    on-failure: {do: ignore}"), does("install: {}"),
		plain + "seal-checks: {waive: {left-overs: x}}\n", plain + "parameters: {a: {type: date}}\n",
		plain + "parameters: {a: {default: [x]}}\n", plain + "steps_: 1\n",
		plain + "secrets: {tide: {}}\n", plain + "secrets: {tide: {file: a, environment: B}}\n",
	} {
		_, err := Parse([]byte(wrong))
		require.Error(t, err)
		require.Error(t, fits(wrong), wrong)
	}
	require.True(t, json.Valid(Schema()))
}
