package cli

import (
	"cmp"
	"context"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/client"
	"nimblepane/core/secret"
)

func (a *app) followSheet() *cobra.Command {
	var in client.NewRepository
	var every time.Duration
	var password, key, hosts, announced string
	cmd := &cobra.Command{
		Use: "follow NAME REPOSITORY", Short: "Have a kept sheet follow one in a git repository", Args: named,
		ValidArgsFunction: a.complete(sheetNames),
		Long: "Have a kept sheet follow one in a git repository (https://HOST/PATH, ssh://USER@HOST/PATH or " +
			"file:///PATH). The service looks\nthere again and again, and takes the sheet, with the files that it " +
			"names beside it, from each new commit. Credentials\nstay where the service finds them: a file of its " +
			"folder of secrets, or env:NAME for its variable " + secret.Prefix + "NAME.",
		Example: "  pane sheet follow chart-desk https://git.ferries.example/desks.git --branch main --folder charts " +
			"--file desk.yaml\n  pane sheet follow chart-desk ssh://git@git.ferries.example/desks.git --file " +
			"desk.yaml --key desks-key --known-hosts known-hosts",
	}
	f := cmd.Flags()
	f.StringVar(&in.Branch, "branch", "", "branch that is followed (default: the repository's own)")
	f.StringVar(&in.Tag, "tag", "", "tag that is followed, instead of a branch")
	f.StringVar(&in.Commit, "commit", "", "one commit, by its 40 digits, instead of a branch")
	f.StringVar(&in.Folder, "folder", "", "folder that the sheet is in")
	f.StringVar(&in.File, "file", "", "file of the sheet, in the folder")
	f.StringVar(&in.User, "user", "", "who the service is there")
	f.StringVar(&password, "password", "", "secret with the password or token, for HTTPS")
	f.StringVar(&key, "key", "", "secret with the private key, for SSH")
	f.StringVar(&hosts, "known-hosts", "", "secret with the known hosts, for SSH")
	f.StringVar(&announced, "announced", "", "secret that announcements of pushes are signed with")
	f.DurationVar(&every, "every", 5*time.Minute, "how often it is looked at, 1m to 168h")
	_ = cmd.MarkFlagRequired("file")
	cmd.MarkFlagsMutuallyExclusive("branch", "tag", "commit")
	cmd.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		in.Address, in.Every = args[1], int64(every/time.Second)
		in.Password, in.Key, in.KnownHosts, in.Announced = source(password), source(key), source(hosts),
			source(announced)
		s, err := c.FollowRepository(ctx, args[0], in)
		if err != nil {
			return err
		}
		err = a.wasLookedAt(ctx, c, s.Name, s.Repository.LookedAt)
		if err != nil || announced == "" || a.structured() {
			return err
		}
		a.say("Pushes are announced by a POST to the service's /api/v1/announcements/%s, its body signed in "+
			"X-Hub-Signature-256.", s.Name)
		return nil
	})
	return cmd
}

// source is where the service finds a secret, as it is written at the command line; nil for none.
func source(written string) *secret.Source {
	if written == "" {
		return nil
	}
	if name, is := strings.CutPrefix(written, "env:"); is {
		return &secret.Source{Environment: name}
	}
	return &secret.Source{File: written}
}

// wasLookedAt waits until the repository of a sheet was looked at after a time, and says what was seen.
func (a *app) wasLookedAt(ctx context.Context, c *client.Client, name string, after *time.Time) error {
	for {
		s, err := c.Sheet(ctx, name)
		if err != nil {
			return err
		}
		if s.Repository == nil {
			return fmt.Errorf("sheet %s follows no repository any more", name)
		}
		if at := s.Repository.LookedAt; at != nil && (after == nil || at.After(*after)) {
			if a.structured() {
				return a.object(s)
			}
			a.say("%s", inRepository(s.Sheet))
			if wrong := wrongWith(s); len(wrong) > 0 {
				a.say("It is wrong in %s, and no build of it can be started:\n%s", many(len(wrong), "place"),
					strings.Join(wrong, "\n"))
			}
			return nil
		}
		if err := sleep(ctx, 300*time.Millisecond); err != nil {
			return err
		}
	}
}

// inRepository says what a sheet follows, and what was seen there.
func inRepository(s client.Sheet) string {
	r := s.Repository
	of := "the default branch"
	switch {
	case r.Branch != "":
		of = "branch " + r.Branch
	case r.Tag != "":
		of = "tag " + r.Tag
	case r.Commit != "":
		of = "commit " + short(r.Commit)
	}
	text := fmt.Sprintf("Sheet %s follows %s in %s of %s: ", s.Name, path.Join(r.Folder, r.File), of, r.Address)
	seen := "no commit was taken from there yet"
	if s.Commit != "" {
		seen = fmt.Sprintf("it is as in commit %s, looked at %s", short(s.Commit), cmp.Or(when(r.SeenAt), "never"))
	}
	if r.Why == "" {
		return text + seen + "."
	}
	return text + seen + ". Now it cannot be taken from there: " + r.Why
}

func (a *app) lookAtSheet() *cobra.Command {
	return &cobra.Command{
		Use: "look NAME", Short: "Look at a sheet's repository now, and not only in its time", Args: named,
		ValidArgsFunction: a.complete(sheetNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Sheet(ctx, args[0])
			if err != nil {
				return err
			}
			if err := c.LookAtRepository(ctx, s.Name); err != nil {
				return err
			}
			return a.wasLookedAt(ctx, c, s.Name, s.Repository.LookedAt)
		}),
	}
}

func (a *app) unfollowSheet() *cobra.Command {
	return &cobra.Command{
		Use: "unfollow NAME", Short: "Have a sheet follow no repository any more: it stays as it was seen last",
		Args: named, ValidArgsFunction: a.complete(sheetNames),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.Sheet(ctx, args[0])
			if err != nil {
				return err
			}
			unfollow := func(ctx context.Context) error { return c.UnfollowRepository(ctx, args[0]) }
			if s.Repository == nil {
				err = unfollow(ctx)
			} else {
				err = a.confirmed(ctx, unfollow, "Have sheet %s follow its repository no more?", args[0])
			}
			if err != nil {
				return err
			}
			a.say("Sheet %s is one of its own.", args[0])
			return nil
		}),
	}
}
