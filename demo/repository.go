package main

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
)

// The repository of Saltmarsh Ferries, as it was made in a month: each commit says what the one after it changed, from
// the sheet as it is now back to how it began.
var month = []struct {
	before  time.Duration
	who     string
	subject string
	undo    [2]string // what it brought, and what was there before
}{
	{2 * 24 * time.Hour, "Anton Fairlead", "Berth Planner has to open before a version is made", [2]string{`
applications:
  - name: Berth Planner
    command: /usr/bin/berth-planner
    opens: {window: Berths}
`, ""}},
	{9 * 24 * time.Hour, "Jonas Lock", "Begin with the vendor's newest release, and not with what is in use", [2]string{
		`base:
  vendor: {feed: estuary, product: Harbour Linux, edition: desktop, release: "13"}`, "base: {track: live}",
	}},
	{17 * 24 * time.Hour, "Anton Fairlead", "Charts of one estuary only, where that is enough", [2]string{
		`      arguments: ["{{estuary}}"]
`, "",
	}},
	{24 * 24 * time.Hour, "Wilma Gangway", "Index the charts once, and not at every sign-in", [2]string{`
  - name: Before the charts
    checkpoint: {}

  # This takes most of a morning.
  - name: Charts of the estuary
    script:
      file: index-charts.sh
    time-limit: 8h
`, ""}},
	{31 * 24 * time.Hour, "Jonas Lock", "The desk of the chart plotters, as it was made by hand", [2]string{}},
}

// desks makes the repository that build sheets of the ferries are kept in, as it is at a time.
func (s *stack) desks(now time.Time) error {
	at := filepath.Join(s.repositories(), "desks")
	repo, err := git.PlainInitWithOptions(at, &git.PlainInitOptions{
		InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("main")},
	})
	if err != nil {
		return err
	}
	tree, err := repo.Worktree()
	if err != nil {
		return err
	}
	beside, err := fs.Sub(sheets, "saltmarsh/desks")
	if err != nil {
		return err
	}
	if err := os.CopyFS(at, beside); err != nil {
		return err
	}
	sheet := filepath.Join(at, "charts", "desk.yaml")
	text, err := os.ReadFile(sheet)
	if err != nil {
		return err
	}
	texts := []string{string(text)} // the newest first
	for _, c := range month[:len(month)-1] {
		was := strings.Replace(texts[len(texts)-1], c.undo[0], c.undo[1], 1)
		if was == texts[len(texts)-1] {
			return fmt.Errorf("the sheet in the repository has nothing that %q brought", c.subject)
		}
		texts = append(texts, was)
	}
	for i := len(month) - 1; i >= 0; i-- {
		if err := os.WriteFile(sheet, []byte(texts[i]), 0o600); err != nil {
			return err
		}
		if err := tree.AddGlob("."); err != nil {
			return err
		}
		mail := strings.ToLower(strings.Fields(month[i].who)[0]) + "@ferries.example"
		who := &object.Signature{Name: month[i].who, Email: mail, When: now.Add(-month[i].before)}
		if _, err := tree.Commit(month[i].subject, &git.CommitOptions{Author: who}); err != nil {
			return err
		}
	}
	return nil
}

// repositories is the folder with git repositories that the service may read.
func (s *stack) repositories() string { return filepath.Join(s.dir, "repositories") }
