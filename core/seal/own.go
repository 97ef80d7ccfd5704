package seal

import (
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"unicode"
)

// Script is an organisation's own seal check: a program that is run on the
// machine. Exit code 0 says that it found nothing, 1 that it did, with the
// evidence in what it printed. Comments at its beginning give it the form of
// ours:
//
//	#!/bin/sh
//	# severity: warns
//	# remedy: install the licence of this year
type Script struct {
	Check    string   `json:"check"` // "own-" and the name of its file
	Severity Severity `json:"severity"`
	Remedy   string   `json:"remedy"`
	Text     string   `json:"text"`
}

// MostOfScript is how large a script is at most, in bytes.
const MostOfScript = 64 << 10

// Scripts reads all own checks of a folder, by name. What begins with a dot is left alone.
func Scripts(folder fs.FS) (list []Script, err error) {
	files, err := fs.ReadDir(folder, ".")
	if err != nil {
		return nil, fmt.Errorf("the folder of seal checks cannot be read: %w", err)
	}
	for _, f := range files {
		if f.IsDir() || strings.HasPrefix(f.Name(), ".") {
			continue
		}
		text, err := fs.ReadFile(folder, f.Name())
		if err != nil {
			return nil, fmt.Errorf("the seal check %s cannot be read: %w", f.Name(), err)
		}
		s, err := ReadScript(f.Name(), string(text))
		if err != nil {
			return nil, fmt.Errorf("the seal check %w", err)
		}
		list = append(list, s)
	}
	return list, nil
}

var header = regexp.MustCompile(`(?m)^#[ \t]*(severity|remedy):[ \t]*(\S.*?)[ \t]*$`)

// ReadScript reads an own check from a file of the name.
func ReadScript(name, text string) (Script, error) {
	base, _, _ := strings.Cut(name, ".")
	s := Script{Check: OwnPrefix + base, Severity: Blocks, Text: text}
	switch {
	case !ownName.MatchString(s.Check):
		return s, fmt.Errorf("%s: call the file by small letters, digits and dashes, with an ending or none", name)
	case len(text) > MostOfScript:
		return s, fmt.Errorf("%s has %d bytes: a check has at most %d", name, len(text), MostOfScript)
	case !strings.HasPrefix(text, "#!/"):
		return s, fmt.Errorf("%s has to begin with its interpreter, such as #!/bin/sh", name)
	}
	for _, m := range header.FindAllStringSubmatch(text, -1) {
		if m[1] == "remedy" {
			s.Remedy = m[2]
		} else if s.Severity = Severity(m[2]); s.Severity != Blocks && s.Severity != Warns {
			return s, fmt.Errorf("%s: severity %q: use %s or %s", name, m[2], Blocks, Warns)
		}
	}
	if s.Remedy == "" {
		return s, fmt.Errorf("%s does not say what to do about what it finds: add a line such as \"# remedy: install "+
			"the licence\"", name)
	}
	return s, nil
}

// Own is what an own check found.
type Own struct {
	Check    string   `json:"check"`
	Severity Severity `json:"severity"`
	Evidence string   `json:"evidence"`
	Remedy   string   `json:"remedy"`
}

// mostEvidence is how much of what a script printed is kept, in characters.
const mostEvidence = 500

// Ended says what a script found that ended with the exit code after it printed that; nil if nothing.
func (s Script) Ended(exitCode int, printed string) *Own {
	clean := strings.Map(func(r rune) rune {
		if unicode.IsControl(r) && r != '\n' {
			return -1
		}
		return r
	}, strings.ToValidUTF8(printed, "?"))
	lines := strings.FieldsFunc(strings.TrimSpace(clean), func(r rune) bool { return r == '\n' })
	evidence := []rune(strings.Join(lines, "; "))
	if len(evidence) > mostEvidence {
		evidence = append(evidence[:mostEvidence], []rune("...")...)
	}
	found := &Own{Check: s.Check, Severity: s.Severity, Evidence: string(evidence), Remedy: s.Remedy}
	switch {
	case exitCode == 0:
		return nil
	case exitCode != 1:
		found.Severity, found.Remedy = Blocks, "see why the check ends so: 0 is nothing found, 1 is something"
		found.Evidence = strings.TrimSuffix(fmt.Sprintf("it ended with exit code %d: %s", exitCode, found.Evidence),
			": ")
	case found.Evidence == "":
		found.Evidence = "it printed nothing"
	}
	return found
}

// Unmade is what stands for a check that could not be made.
func (s Script) Unmade(why string) *Own {
	return &Own{Check: s.Check, Severity: Blocks, Evidence: why, Remedy: "mend the check, or waive it with a reason"}
}
