package seal

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAMachineWithNothingLeftIsFit(t *testing.T) {
	t.Parallel()
	require.Empty(t, Check(Facts{}))
}

func TestEachCheckSaysWhatItFoundAndWhatToDo(t *testing.T) {
	t.Parallel()
	found := Check(Facts{
		UpdatesPending: []string{"tzdata"}, RestartPending: "linux-image",
		SignedIn: []string{"Ida Strand", "Jonas Lock"},
		Secrets:  []string{"/root/.ssh/id_ed25519"}, Leftovers: []string{"/tmp/fare-desk.deb"},
	})
	var lines []string
	for _, f := range found {
		lines = append(lines, string(f.Severity)+" "+f.String())
	}
	require.Equal(t, []string{
		"blocks restart-pending: linux-image waits for a restart (add a restart as the last step)",
		"blocks people-signed-in: Ida Strand and Jonas Lock are signed in (let them sign out)",
		"blocks secrets-left: there are secrets in /root/.ssh/id_ed25519 (remove them: everybody on every host could " +
			"read them)",
		"warns updates-pending: 1 update waits: tzdata (apply them, or have the next version do it)",
		"warns leftovers: steps left /tmp/fare-desk.deb (remove what no host needs)",
	}, lines)
	require.Contains(t, Check(Facts{UpdatesPending: []string{"a", "b"}})[0].Evidence, "2 updates wait: a, b")
	require.Contains(t, Check(Facts{SignedIn: []string{"Ida Strand"}})[0].Evidence, "Ida Strand is signed in")
	require.Equal(t, []Severity{Blocks, Warns}, Severities())
}

func TestWhatIsWaivedDoesNotBlock(t *testing.T) {
	t.Parallel()
	all := Facts{
		UpdatesPending: []string{"tzdata"}, RestartPending: "linux-image", SignedIn: []string{"Ida Strand"},
		Secrets: []string{"/root/id"}, Leftovers: []string{"/tmp/x"},
	}
	var checks, blocking []string
	for _, f := range Check(all) {
		checks = append(checks, f.Check)
	}
	require.ElementsMatch(t, Checks(), checks)
	for _, f := range Waive(Check(all), map[string]string{SecretsLeft: "it is public", Leftovers: "small"}) {
		if f.Blocking() {
			blocking = append(blocking, f.Check)
		}
		if f.Check == SecretsLeft {
			require.Equal(t, "it is public", f.Waived)
		}
	}
	require.Equal(t, []string{RestartPending, PeopleSignedIn}, blocking)
}
