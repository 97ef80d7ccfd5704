package sheet

import (
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const withFiles = `
image: counter-desk
base: {track: live}
machine: {site: north-quay}
steps:
  - {name: tally, script: {file: bin/tally.sh, arguments: [now]}}
  - {name: fares, put: {file: fares.db, to: /var/lib/fares.db}}
  - {name: tides, put: {folder: tides, to: /opt/tides, owner: ida}}
  - {name: fares again, put: {file: fares.db, to: /opt/fares.db, mode: "0600"}}
`

func TestWhatASheetNamesBesideItIsKnownByItsDigest(t *testing.T) {
	t.Parallel()
	s, err := Parse([]byte(withFiles))
	require.NoError(t, err)
	require.Equal(t, []Source{{Path: "bin/tally.sh"}, {Path: "fares.db"}, {Path: "tides", Folder: true}}, s.Sources())
	says := strings.Join(s.Explain(), "\n")
	require.Contains(t, says, "the script bin/tally.sh is run with the arguments now")
	require.Contains(t, says, "the file fares.db is written to /opt/fares.db, for root, with mode 0600")
	require.Contains(t, says, "all that is in the folder tides is written to /opt/tides, for ida, within")

	wrong := s.Wrong(map[Source]error{
		{Path: "fares.db"}: errors.New("it is away"), {Path: "tides", Folder: true}: errors.New("it is a file"),
	})
	require.EqualError(t, wrong, `line 7, column 25: the file fares.db: it is away
line 8, column 25: the folder tides: it is a file
line 9, column 31: the file fares.db: it is away`)
	contents := map[string]Content{
		"bin/tally.sh": {SHA256: "1", Size: 10},
		"fares.db":     {SHA256: strings.Repeat("2", 64), Size: 5 << 30},
		"tides":        {SHA256: "3", Size: 2048, Folder: true},
	}
	script := "#!/bin/sh\ntally\n"
	read := func(c Content) ([]byte, error) {
		require.Equal(t, "1", c.SHA256, "only scripts are read")
		return []byte(script), nil
	}
	whole, err := s.WithFiles(contents, read)
	require.NoError(t, err)
	require.Equal(t, script, whole.Steps[0].Script.Text)
	require.Equal(t, contents["fares.db"], *whole.Steps[3].Put.Content)
	require.Nil(t, s.Steps[3].Put.Content, "the sheet itself stays as it is")
	require.Contains(t, strings.Join(whole.Explain(), "\n"), "the file fares.db, of 5,368,709,120 bytes with the "+
		"digest 222222222222..., is written to /opt/fares.db")

	script = "tally\n"
	_, err = s.WithFiles(contents, read)
	require.EqualError(t, err, `step "tally": the script bin/tally.sh has to begin with the interpreter, such as #!/bin/sh`)
	_, err = s.WithFiles(contents, func(Content) ([]byte, error) { return nil, errors.New("away") })
	require.EqualError(t, err, "away")
	_, err = s.WithFiles(map[string]Content{
		"bin/tally.sh": {Size: MostBytes + 1}, "tides": {}, "fares.db": {Folder: true},
	}, read)
	require.EqualError(t, err, `step "tally": the script bin/tally.sh has 1048577 bytes: at most 1048576 are taken
step "tides" wants the folder tides, and what was sent is a file`)
	_, err = s.WithFiles(nil, read)
	require.ErrorContains(t, err, `step "tides": the folder tides was not sent along with the sheet`)
}

func TestAReadyStepHasNothingBesideIt(t *testing.T) {
	t.Parallel()
	_, err := ParseReady("x", []byte("about: x\nsteps:\n  - {name: a, put: {file: b, to: /x}}\n"))
	require.ErrorContains(t, err, "a ready step has nothing beside it: write what is meant into it")
}
