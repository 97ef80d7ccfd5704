package cli

import (
	"errors"
	"regexp"
	"strings"

	"github.com/dustin/go-humanize/english"

	"nimblepane/client"
)

// phrases translate error messages of the argument parser.
var phrases = []struct {
	said *regexp.Regexp
	told func(m []string) string
}{
	{
		regexp.MustCompile(`^if any flags in the group \[.*\] are set none of the others can be; \[(.*)\] were all set`),
		func(m []string) string { return options(m[1], "and") + " cannot be given together" },
	},
	{
		regexp.MustCompile(`^if any flags in the group \[(.*)\] are set they must all be set; missing \[(.*)\]`),
		func(m []string) string {
			return options(m[1], "and") + " go together: give " + options(m[2], "and") + ", too"
		},
	},
	{
		regexp.MustCompile(`^at least one of the flags in the group \[(.*)\] is required`),
		func(m []string) string { return "give " + options(m[1], "or") },
	},
	{
		regexp.MustCompile(`^required flag\(s\) (.*) not set`),
		func(m []string) string {
			return "give " + options(strings.NewReplacer(`"`, "", ",", "").Replace(m[1]), "and")
		},
	},
	{
		regexp.MustCompile(`^unknown (?:shorthand )?flag: (?:'(.)' in -\S+|(--\S+))$`),
		func(m []string) string {
			if m[1] != "" {
				return "there is no option -" + m[1]
			}
			return "there is no option " + m[2]
		},
	},
	{
		regexp.MustCompile(`^flag needs an argument: (?:'(.)' in -\S+|(--\S+))$`),
		func(m []string) string {
			if m[1] != "" {
				return "the option -" + m[1] + " needs a value"
			}
			return "the option " + m[2] + " needs a value"
		},
	},
	{
		regexp.MustCompile(`(?s)^invalid argument "(.*)" for "(?:-., )?(--\S+)" flag: (.*)$`),
		func(m []string) string {
			return m[2] + ` "` + m[1] + `": ` + wanted(m[3])
		},
	},
}

// options writes the names of options, which stand with spaces between them, as --a, --b and --c.
func options(names, and string) string {
	list := strings.Fields(names)
	for i, n := range list {
		list[i] = "--" + n
	}
	return english.OxfordWordSeries(list, and)
}

// wanted says what an option takes, from why its value was not taken.
func wanted(why string) string {
	switch {
	case strings.Contains(why, "ParseInt"), strings.Contains(why, "ParseUint"), strings.Contains(why, "Atoi"):
		return "write a whole number"
	case strings.Contains(why, "ParseBool"):
		return "write true or false"
	case strings.Contains(why, "ParseFloat"):
		return "write a number"
	case strings.Contains(why, "time: "):
		return "write a time such as 30s, 10m or 2h"
	}
	return why
}

// file matches errors of the operating system about files.
var file = regexp.MustCompile(`(?:open|stat|lstat|read) (\S+): (no such file or directory|permission denied|is a directory)`)

// inPlainWords rewrites error messages of libraries about arguments and files.
func inPlainWords(err error) error {
	said := err.Error()
	for _, p := range phrases {
		if m := p.said.FindStringSubmatch(said); m != nil {
			return usage("%s", p.told(m))
		}
	}
	if errors.As(err, new(*client.Error)) {
		return err // the text of the service
	}
	if m := file.FindStringSubmatchIndex(said); m != nil {
		path := said[m[2]:m[3]]
		why := map[string]string{
			"no such file or directory": "there is no file " + path, "permission denied": "you may not read " + path,
			"is a directory": path + " is a folder",
		}[said[m[4]:m[5]]]
		return usage("%s", strings.TrimPrefix(said[:m[0]]+why+said[m[1]:], errUsage.Error()+": "))
	}
	return err
}
