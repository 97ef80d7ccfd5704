package strict

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestYAMLHasOnlySoManyKeysTogether(t *testing.T) {
	t.Parallel()
	list := func(n int, form string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, form, i)
		}
		return b.String()
	}
	for _, fine := range []string{
		list(yamlKeys, "k%d: 1\n"),
		"a:\n" + list(yamlKeys, "  k%d: 1\n") + "b:\n" + list(yamlKeys, "  k%d: 1\n"),
		"a:\n" + list(yamlKeys*2, "  - x: %d\n    y: 1\n"),
		list(yamlKeys*2, "- {x: %d, y: [{z: 1}]}\n"),
		"a:\n" + list(yamlKeys*2, "- x: %d\n"),
		"{" + list(yamlKeys, "k%d: 1, ") + "z}",
		"[{a: 1}, {" + list(yamlKeys, "k%d: 1, ") + "}]",
		list(yamlKeys*2, "- x: %d\n"),
		"a: |\n" + list(yamlKeys*2, "  k%d: 1\n"),
	} {
		require.Nil(t, CheckYAML([]byte(fine)), fine[:100])
	}
	for _, many := range []string{
		list(yamlKeys+1, "k%d: 1\n"),
		"a:\n" + list(yamlKeys+1, "  k%d:\n    x: {y: 1}\n"),
		"- x: 1\n" + list(yamlKeys, "  k%d: [1]\n"),
		"a: {" + list(yamlKeys+1, "k%d: {x: 1}, ") + "}",
	} {
		require.ErrorContains(t, CheckYAML([]byte(many)), "more than 1000 keys stand together")
	}
}

func TestYAMLIsOnePlainDocument(t *testing.T) {
	t.Parallel()
	for _, fine := range []string{
		"", "# nothing\n", "---\na: 1\n", "# first\n---\na: 1\n",
		"a: 1\n" + strings.Repeat(" ", 90) + "# far\nb: 2\n", "a: {b: [1, -2, 0], c: 'x: 017'}\nd: 24h\n",
		"- name: tide\n  title: \"1.5 metres\"\n", "a: |\n  text: 1.5\n  --- text\n",
	} {
		require.Nil(t, CheckYAML([]byte(fine)), fine)
	}
	for text, want := range map[string]string{
		"a: 1\nhosts: 1.5":                      "line 2: 1.5 is not a whole number",
		"hosts: 1e3":                            "1e3 is not a whole number",
		"hosts: .inf":                           ".inf is not a whole number",
		"hosts: 017":                            "017 could be taken for several numbers",
		"hosts: 0x10":                           "0x10 could be taken",
		"hosts: 1_000":                          "1_000 could be taken",
		"hosts: +5":                             "+5 could be taken",
		"a: 1\n---\nb: 2":                       "line 2: a second document begins here",
		"a: &x 1\nb: *x":                        "line 1: anchors, aliases and tags",
		"a: !!int 3":                            "anchors, aliases and tags",
		"a: b\x00c":                             "line 1: there is a control character",
		"a:\r\n\tb\n c\x7f":                     "line 3: there is a control character",
		"a: \xff":                               "line 1: the text is not UTF-8",
		strings.Repeat("[", 65_000):             "nested deeper than 16",
		strings.Repeat("{a: ", 16_000):          "nested deeper than 16",
		strings.Repeat("- ", 32_000):            "nested deeper than 16",
		"a:\n" + strings.Repeat(" ", 90) + "b:": "indented by more than 80",
	} {
		p := CheckYAML([]byte(text))
		require.NotNil(t, p, "%.40s", text)
		require.ErrorContains(t, p, want)
	}
}

func TestAControlCharacterIsFoundWhereItIs(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Place{
		"a: \xff": {1, 1}, "a: b\x00c": {1, 5}, "\x00": {1, 1}, "a:\r\n\tb\n c\x7f": {3, 3}, "é: \x01": {1, 4},
	} {
		require.Equal(t, want, CheckYAML([]byte(text)).Place, "%q", text)
	}
}

func TestDepthOfYAMLIsCountedToTheLast(t *testing.T) {
	t.Parallel()
	for _, deep := range []func(n int) string{
		func(n int) string { return strings.Repeat("[", n) + strings.Repeat("]", n) },
		func(n int) string { return strings.Repeat("{a: ", n) + "1" + strings.Repeat("}", n) },
		func(n int) string { return strings.Repeat("- ", n) + "1\n- 2" },
		func(n int) string { return "a:\n" + strings.Repeat(" ", 5*n) + "b: 1" },
	} {
		require.Nil(t, CheckYAML([]byte(deep(16))), deep(16))
		require.NotNil(t, CheckYAML([]byte(deep(17))), deep(17))
	}
	require.Nil(t, CheckYAML([]byte("[1]\n# "+strings.Repeat("[", 20))))
	many := strings.Repeat("- {a: [1]}\n", 20) // beside each other, not in each other
	require.Nil(t, CheckYAML([]byte(many)))
}

func TestValuesInMessagesAreCut(t *testing.T) {
	t.Parallel()
	forty := "1." + strings.Repeat("5", 38)
	for value, want := range map[string]string{
		forty: forty + " is not", forty + "5": forty + "... is not", "1e3   # or so": ": 1e3 is not",
	} {
		require.ErrorContains(t, CheckYAML([]byte("hosts: "+value)), want)
	}
}
