package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/sheet"
)

// mostCommits is how many commits the notes of a version name at most, and firstCommits if there is no earlier build to
// begin at.
const (
	mostCommits  = "500"
	firstCommits = "20"
)

// commitOf says which commit of a git repository a sheet is of. If the sheet's notes are to name the commits since the
// last build, it has to be in a repository, and they are of the folder that the sheet is in.
func (a *app) commitOf(ctx context.Context, c *client.Client, s sheet.Sheet, file string) (of client.CommitOf,
	err error,
) {
	folder := filepath.Dir(file) // the current one if the sheet is on the standard input
	head, err := git(ctx, folder, "rev-parse", "HEAD")
	var changed string
	if err == nil {
		changed, err = git(ctx, folder, "status", "--porcelain", "--", ".")
	}
	switch {
	case err != nil && s.Version.Commits:
		return of, usage("the sheet's notes are to name commits, and %s is not in a git repository that has some: %s",
			file, err)
	case err != nil, changed != "" && !s.Version.Commits:
		return of, nil // it is of no commit
	case changed != "":
		a.warn("what has changed in %s since its last commit is not in the notes.", folder)
	}
	of.Commit = head
	if !s.Version.Commits {
		return of, nil
	}
	last, err := lastCommit(ctx, c, s.Image)
	if err != nil {
		return of, err
	}
	log := []string{"log", "--format=%s", "--max-count", firstCommits, head, "--", "."}
	if last != "" {
		if _, err := git(ctx, folder, "cat-file", "-e", last+"^{commit}"); err != nil {
			a.warn("the commit of the last build, %.12s, is not in this repository: the notes name the last %s.", last,
				firstCommits)
		} else {
			log = []string{"log", "--format=%s", "--max-count", mostCommits, last + ".." + head, "--", "."}
		}
	}
	subjects, err := git(ctx, folder, log...)
	if err != nil {
		return of, fmt.Errorf("read the commits in %s: %w", folder, err)
	}
	if subjects != "" {
		of.Commits = strings.Split(subjects, "\n")
	}
	return of, nil
}

// lastCommit is that of the image's last build that became ready and is of one.
func lastCommit(ctx context.Context, c *client.Client, image string) (string, error) {
	builds, err := c.Builds(ctx, image, build.Ready, 50)
	for _, b := range builds {
		if b.Commit != "" {
			return b.Commit, nil
		}
	}
	return "", err
}

// git runs it in a folder and returns what it printed.
func git(ctx context.Context, folder string, args ...string) (string, error) {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", folder}, args...)...)
	out, err := cmd.Output()
	var ended *exec.ExitError
	if errors.As(err, &ended) {
		return "", errors.New(string(bytes.TrimSpace(ended.Stderr)))
	}
	return strings.TrimSpace(string(out)), err
}

// warn tells what a person should know, beside what was asked for.
func (a *app) warn(format string, args ...any) { fmt.Fprintf(a.err, "Warning: "+format+"\n", args...) }
