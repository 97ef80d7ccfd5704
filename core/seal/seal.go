// Package seal says whether a machine is fit to be sealed.
//
// A sealed machine becomes a version, and hundreds of hosts become what it was.
// What a machine should not pass on, or what would keep the sealing from
// coming through, is looked for before: each seal check looks at the facts of
// the machine and finds nothing, or says what it found and what to do about it.
package seal

import (
	"fmt"
	"strings"

	"github.com/dustin/go-humanize/english"
)

// Facts are what is known of a machine before it is sealed.
type Facts struct {
	UpdatesPending []string `json:"updates_pending,omitempty"` // packages
	RestartPending string   `json:"restart_pending,omitempty"` // what asks for a restart
	SignedIn       []string `json:"signed_in,omitempty"`       // people
	Secrets        []string `json:"secrets,omitempty"`         // in which files, and what: "/root/id (a private key)"
	Leftovers      []string `json:"leftovers,omitempty"`       // of steps, in temporary folders
}

// Severity is what a finding means for the sealing.
type Severity string

const (
	Blocks Severity = "blocks"
	Warns  Severity = "warns"
)

// Severities are all of them.
func Severities() []Severity { return []Severity{Blocks, Warns} }

// The seal checks there are, by their identifiers.
const (
	RestartPending = "restart-pending"
	PeopleSignedIn = "people-signed-in"
	SecretsLeft    = "secrets-left"
	UpdatesPending = "updates-pending"
	Leftovers      = "leftovers"
)

// Checks are all of them.
func Checks() []string {
	return []string{RestartPending, PeopleSignedIn, SecretsLeft, UpdatesPending, Leftovers}
}

// Finding is what a seal check found.
type Finding struct {
	Check    string   `json:"check"` // its identifier, such as "restart-pending"
	Severity Severity `json:"severity"`
	Evidence string   `json:"evidence"`
	Remedy   string   `json:"remedy"`           // what to do about it
	Waived   string   `json:"waived,omitempty"` // why it is passed over, if it is
}

// Blocking says whether the finding keeps the machine from being sealed.
func (f Finding) Blocking() bool { return f.Severity == Blocks && f.Waived == "" }

// Waive passes over what the checks found that are waived, for the reasons given.
func Waive(found []Finding, reasons map[string]string) []Finding {
	for i := range found {
		found[i].Waived = reasons[found[i].Check]
	}
	return found
}

func (f Finding) String() string { return fmt.Sprintf("%s: %s (%s)", f.Check, f.Evidence, f.Remedy) }

// Check makes all seal checks and returns what they found, what blocks first.
func Check(f Facts) (found []Finding) {
	add := func(check string, severity Severity, evidence, remedy string) {
		found = append(found, Finding{Check: check, Severity: severity, Evidence: evidence, Remedy: remedy})
	}
	if f.RestartPending != "" {
		add(RestartPending, Blocks, f.RestartPending+" waits for a restart", "add a restart as the last step")
	}
	if len(f.SignedIn) > 0 {
		add(PeopleSignedIn, Blocks, english.WordSeries(f.SignedIn, "and")+" "+
			english.PluralWord(len(f.SignedIn), "is", "are")+" signed in", "let them sign out")
	}
	if len(f.Secrets) > 0 {
		add(SecretsLeft, Blocks, "there are secrets in "+strings.Join(f.Secrets, ", "),
			"remove them: everybody on every host could read them")
	}
	if n := len(f.UpdatesPending); n > 0 {
		add(UpdatesPending, Warns, english.Plural(n, "update", "")+" "+english.PluralWord(n, "waits", "wait")+": "+
			strings.Join(f.UpdatesPending, ", "), "apply them, or have the next version do it")
	}
	if len(f.Leftovers) > 0 {
		add(Leftovers, Warns, "steps left "+strings.Join(f.Leftovers, ", "), "remove what no host needs")
	}
	return found
}
