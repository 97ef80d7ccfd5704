package main

import (
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/stretchr/testify/require"

	"nimblepane/core/estate"
	"nimblepane/core/sheet"
	"nimblepane/platform/practice/world"
)

func TestTheDemoEstateAndItsScenarioBelongTogether(t *testing.T) {
	t.Parallel()
	s := &stack{practice: 1234}
	f, err := estate.Parse(s.estate())
	require.NoError(t, err)
	scenario, err := world.ParseScenario([]byte(scenarioFile))
	require.NoError(t, err)
	sites := map[string]bool{}
	for _, site := range scenario.Sites {
		sites[site.Name] = true
	}
	hosts, seats, people := 0, map[string]int{}, 0
	for _, site := range f.Sites {
		require.True(t, sites[site.Name])
		require.Equal(t, "http://127.0.0.1:1234", site.Address)
	}
	for _, p := range f.Pools {
		hosts += p.Hosts
		seats[p.HostPrefix+"-"] = p.Hosts * p.SeatsPerHost
	}
	for _, c := range scenario.Crowds {
		require.Less(t, c.People, seats[c.Hosts], "the people of %s find seats", c.Hosts)
		people += c.People
	}
	require.Equal(t, 122, hosts)
	require.InDelta(t, 700, people, 50)
	for _, b := range scenario.BuildMachines {
		require.True(t, sites[b.Site])
		require.NotEmpty(t, b.Changes)
	}
}

func TestTheRepositoryOfTheFerriesHasAMonthOfRightSheets(t *testing.T) {
	t.Parallel()
	s := &stack{dir: t.TempDir()}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	require.NoError(t, s.desks(now))
	repo, err := git.PlainOpen(filepath.Join(s.repositories(), "desks"))
	require.NoError(t, err)
	all, err := repo.Log(&git.LogOptions{})
	require.NoError(t, err)
	var steps []int
	require.NoError(t, all.ForEach(func(c *object.Commit) error {
		f, err := c.File("charts/desk.yaml")
		require.NoError(t, err)
		text, err := f.Contents()
		require.NoError(t, err)
		read, err := sheet.Parse([]byte(text))
		require.NoError(t, err, c.Message)
		steps = append(steps, len(read.Steps))
		return nil
	}))
	require.Equal(t, []int{4, 4, 4, 4, 2}, steps)
}

func TestTheDemoSheetsAreRightAndTheirPackagesAreThere(t *testing.T) {
	t.Parallel()
	scenario, err := world.ParseScenario([]byte(scenarioFile))
	require.NoError(t, err)
	for name, problems := range map[string]int{counter: 0, "desks/charts/desk": 0, "crew-desk": 3} {
		text, err := sheets.ReadFile("saltmarsh/" + name + ".yaml")
		require.NoError(t, err)
		s, err := sheet.Parse(text)
		var wrong sheet.Problems
		require.True(t, errors.As(err, &wrong) || err == nil)
		require.Len(t, wrong, problems, name)
		for _, of := range s.Sources() {
			_, err := fs.Stat(sheets, path.Join(path.Dir("saltmarsh/"+name), of.Path))
			require.NoError(t, err)
		}
		for _, step := range s.Steps {
			if step.Install == nil || problems > 0 {
				continue
			}
			for _, name := range step.Install.Packages {
				is := func(p world.Package) bool { return p.Name == name }
				require.True(t, slices.ContainsFunc(scenario.Packages, is), name)
			}
		}
	}
}

func TestTheNumberOfARolloverIsReadFromWhatTheClientSays(t *testing.T) {
	t.Parallel()
	require.Equal(t, "17", started("Rollover 17 takes 4 hosts of back-office\nWatch it with: pane rollover watch 17"))
	require.Equal(t, "0", started("nothing"))
	require.True(t, strings.HasPrefix(elsewhere("/a"), "/var/tmp/nimblepane-"))
	require.NotEqual(t, elsewhere("/a"), elsewhere("/b"))
}

func TestTheSheetsOfTheRealStoryAreRight(t *testing.T) {
	t.Parallel()
	text := strings.NewReplacer("VERSION", "2.0", "PACKAGE", "dGlkZQ==").Replace(realSheet)
	right, err := sheet.Parse([]byte(text))
	require.NoError(t, err)
	wrong, err := sheet.Parse([]byte(withKey(text)))
	require.NoError(t, err, "it is wrong in what it does, and not in how it is written")
	require.Len(t, wrong.Steps, len(right.Steps)+1)
}
