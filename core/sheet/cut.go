package sheet

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/parser"
)

// StepText returns a step of a sheet as it is written down, with its comments,
// as an item of a list without indent. The sheet has to be right.
func StepText(text []byte, name string) (string, error) {
	s, err := Parse(text)
	if err != nil && len(s.Steps) == 0 {
		return "", err
	}
	for i, step := range s.Steps {
		if step.Name != name {
			continue
		}
		file, err := parser.ParseBytes(text, parser.ParseComments)
		if err != nil {
			return "", err
		}
		at, err := yaml.PathString(fmt.Sprintf("$.steps[%d]", i))
		if err != nil {
			return "", err
		}
		node, err := at.FilterFile(file)
		if err != nil {
			return "", err
		}
		lines := strings.Split(strings.Trim(node.String(), "\n"), "\n")
		indent := len(lines[0]) - len(strings.TrimLeft(lines[0], " "))
		for j, line := range lines {
			lines[j] = "  " + line[min(indent, len(line)-len(strings.TrimLeft(line, " "))):]
		}
		return "-" + strings.Join(lines, "\n")[1:] + "\n", nil
	}
	return "", fmt.Errorf("there is no step %q in the sheet", name)
}
