package cli

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/trail"
)

// saved is what signing in leaves behind, in a file that only its owner reads.
type saved struct {
	URL   string `yaml:"url"`
	Token string `yaml:"token"`
}

func savedFile() (string, error) {
	if f := os.Getenv("NIMBLEPANE_CONFIG"); f != "" {
		return f, nil
	}
	dir, err := os.UserConfigDir()
	return filepath.Join(dir, "nimblepane", "pane.yaml"), err
}

func readSaved() (s saved) {
	file, err := savedFile()
	if err != nil {
		return s
	}
	if b, err := os.ReadFile(file); err == nil {
		_ = yaml.Unmarshal(b, &s) // what cannot be read is as good as not signed in
	}
	return s
}

func writeSaved(s saved) (string, error) {
	file, err := savedFile()
	if err != nil {
		return "", err
	}
	b, err := yaml.Marshal(s)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return "", err
	}
	return file, os.WriteFile(file, b, 0o600)
}

func (a *app) secret(prompt string) (string, error) {
	if f, ok := a.in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(os.Stderr, prompt)
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
	lines, ok := a.in.(*bufio.Reader)
	if !ok {
		lines = bufio.NewReader(a.in)
	}
	line, err := lines.ReadString('\n')
	if line == "" && err != nil {
		return "", usage("no password was given on standard input")
	}
	return strings.TrimRight(line, "\r\n"), nil
}

func (a *app) people() []*cobra.Command {
	var name string
	signIn := &cobra.Command{
		Use: "sign-in URL", Short: "Sign in to a service", Args: named,
		Long: "Sign in to a service. The password is asked for at a terminal, and otherwise read from standard " +
			"input.\nA bearer token that lasts 30 days is kept in a file that only you can read.",
		RunE: func(cmd *cobra.Command, args []string) error {
			password, err := a.secret("Password of " + name + ": ")
			if err != nil {
				return err
			}
			machine, _ := os.Hostname()
			in, err := client.New(args[0], "").SignIn(cmd.Context(), name, password, "pane on "+machine)
			if err != nil {
				return err
			}
			file, err := writeSaved(saved{strings.TrimSuffix(args[0], "/"), in.Token})
			if err != nil {
				return err
			}
			a.say("Signed in to %s as %s (%s). The token is kept in %s.", args[0], in.Account.Name, in.Account.Role,
				file)
			return nil
		},
	}
	signIn.Flags().StringVar(&name, "name", os.Getenv("USER"), "name of your account")
	signOut := &cobra.Command{
		Use: "sign-out", Short: "Sign out: revoke the token that sign-in kept", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			if err := c.SignOut(ctx); err != nil {
				return err
			}
			file, err := savedFile()
			if err == nil {
				err = os.Remove(file)
			}
			if err == nil || errors.Is(err, fs.ErrNotExist) {
				a.say("Signed out.")
				return nil
			}
			return err
		}),
	}
	who := &cobra.Command{
		Use: "whoami", Short: "Who is signed in, and where", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			in, err := c.WhoAmI(ctx)
			if err != nil {
				return err
			}
			s, err := c.Status(ctx)
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(map[string]any{"account": in.Account, "service": s})
			}
			a.say("%s (%s), %s; service version %s.", in.Account.Name, in.Account.Title, in.Account.Role, s.Version)
			return a.clockLine(ctx, c)
		}),
	}
	password := &cobra.Command{
		Use: "password", Short: "Change your own password", Args: named,
		Long: "Change your own password. The old one and then the new one are asked for at a terminal, and " +
			"otherwise read\nfrom standard input, a line each. Your other sessions and tokens end.",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			if f, ok := a.in.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
				a.in = bufio.NewReader(a.in) // both lines come by it
			}
			before, err := a.secret("Old password: ")
			if err != nil {
				return err
			}
			after, err := a.secret("New password: ")
			if err != nil {
				return err
			}
			if err := c.ChangePassword(ctx, client.NewPassword{Old: before, New: after}); err != nil {
				return err
			}
			a.say("Your password is changed. Your other sessions and tokens have ended.")
			return nil
		}),
	}
	return []*cobra.Command{signIn, signOut, who, password, a.tokens(), a.accounts()}
}

func (a *app) tokens() *cobra.Command {
	cmd := &cobra.Command{Use: "token", Short: "Your bearer tokens"}
	var in client.NewToken
	var name string
	var daysGiven func() bool
	make := &cobra.Command{
		Use: "make NAME", Short: "Make a bearer token; its secret is shown this once", Args: named,
		Long: "Make a bearer token. A token that is made with another one lasts no longer and may do no more " +
			"than that one,\nand ends with it: with the one that you signed in with, when you sign out. With " +
			"--account the password is\nasked for instead, and the token stands for itself. A token that is given " +
			"pools or images changes nothing\nelse; what it can read is by its role.",
		Example: "  pane token make pipeline --account mira --days 90 --role operator --pool ticket-pilot",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if daysGiven() && in.Days < 1 {
				return usage("--days %d: use 1 to 366 days, or leave it out", in.Days)
			}
			in.Name = args[0]
			var t client.MadeToken
			var err error
			if name == "" {
				t, err = c.MakeToken(ctx, in)
			} else {
				var password string
				if password, err = a.secret("Password of " + name + ": "); err != nil {
					return err
				}
				var signed client.SignedIn
				signed, err = c.SignInFor(ctx, client.SignIn{
					Name: name, Password: password, Token: in.Name,
					Days: in.Days, Role: in.Role, Pools: in.Pools, Images: in.Images,
				})
				t.Name, t.Secret = in.Name, signed.Token
			}
			if err != nil {
				return err
			}
			if a.structured() {
				return a.object(t)
			}
			if t.ID != 0 {
				a.say("Token %d, good until %s.", t.ID, when(&t.ExpiresAt))
			}
			a.say("Its secret is shown this once:\n%s", t.Secret)
			return nil
		}),
	}
	f := make.Flags()
	daysGiven = func() bool { return f.Changed("days") }
	f.IntVar(&in.Days, "days", 0, "days until it expires (default: as long as the token that makes it; 30 with "+
		"--account)")
	f.StringVar((*string)(&in.Role), "role", "", "the most that it may do (default: all that you may)")
	f.StringSliceVar(&in.Pools, "pool", nil, "let it change this pool only, and what else is named; may be given "+
		"several times")
	f.StringSliceVar(&in.Images, "image", nil, "let it change this image and its pools only, and what else is named")
	f.StringVar(&name, "account", "", "make it with the password of this account, and not with your token")
	_ = make.RegisterFlagCompletionFunc("pool", a.complete(poolNames))
	_ = make.RegisterFlagCompletionFunc("image", a.complete(imageNames))
	cmd.AddCommand(make, &cobra.Command{
		Use: "list", Short: "Your tokens", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			tokens, err := c.Tokens(ctx)
			if err != nil {
				return err
			}
			return list(a, tokens, "You have no token.",
				column[client.Token]{"Token", func(t client.Token) string { return strconv.FormatInt(t.ID, 10) }},
				column[client.Token]{"Name", func(t client.Token) string { return t.Name }},
				column[client.Token]{"May", func(t client.Token) string {
					return cmp.Or(string(t.Role),
						"all that you may")
				}},
				column[client.Token]{"Changes only", func(t client.Token) string {
					return strings.Join(append(append([]string{}, t.Pools...), t.Images...), ", ")
				}},
				column[client.Token]{"Made", func(t client.Token) string { return when(&t.CreatedAt) }},
				column[client.Token]{"Expires", func(t client.Token) string { return when(&t.ExpiresAt) }},
				column[client.Token]{"Revoked", func(t client.Token) string { return when(t.RevokedAt) }})
		}),
	}, &cobra.Command{
		Use: "revoke NUMBER", Short: "Revoke a token", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of a token", args[0])
			}
			if err := c.RevokeToken(ctx, id); err != nil {
				return err
			}
			a.say("Token %d is revoked.", id)
			return nil
		}),
	})
	return cmd
}

func (a *app) accounts() *cobra.Command {
	cmd := &cobra.Command{Use: "account", Short: "Accounts (administrators)"}
	var in client.NewAccount
	add := &cobra.Command{
		Use: "add NAME", Short: "Add an account; its password is asked for", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) (err error) {
			in.Name = args[0]
			if in.Password, err = a.secret("Password for " + in.Name + ": "); err != nil {
				return err
			}
			acc, err := c.AddAccount(ctx, in)
			if err == nil {
				a.say("Account %s was added with the role %s.", acc.Name, acc.Role)
			}
			return err
		}),
	}
	add.Flags().StringVar(&in.Title, "title", "", "the person's name")
	add.Flags().StringVar((*string)(&in.Role), "role", string(role.Viewer),
		"viewer, operator, approver or administrator")
	var edit struct {
		title                     string
		role                      role.Role
		disable, enable, password bool
	}
	change := &cobra.Command{Use: "edit NAME", Short: "Change an account", Args: named}
	f := change.Flags()
	f.StringVar(&edit.title, "title", "", "the person's name")
	f.StringVar((*string)(&edit.role), "role", "", "viewer, operator, approver or administrator")
	f.BoolVar(&edit.disable, "disable", false, "let them sign in no more")
	f.BoolVar(&edit.enable, "enable", false, "let them sign in again")
	f.BoolVar(&edit.password, "password", false, "set a new password, which is asked for; all sessions and tokens end")
	change.RunE = a.run(func(ctx context.Context, c *client.Client, args []string) error {
		if edit.disable && edit.enable {
			return usage("--disable and --enable: give one of them")
		}
		if !edit.disable && !edit.enable && !edit.password && !f.Changed("title") && !f.Changed("role") {
			return usage("there is nothing to change: give --title, --role, --disable, --enable or --password")
		}
		var in client.AccountEdit
		if f.Changed("title") {
			in.Title = &edit.title
		}
		if f.Changed("role") {
			in.Role = &edit.role
		}
		if edit.disable != edit.enable {
			in.Disabled = &edit.disable
		}
		if edit.password {
			p, err := a.secret("New password for " + args[0] + ": ")
			if err != nil {
				return err
			}
			in.Password = &p
		}
		acc, err := c.EditAccount(ctx, args[0], in)
		if err == nil {
			a.say("Account %s was changed.", acc.Name)
		}
		return err
	})
	cmd.AddCommand(add, change, &cobra.Command{
		Use: "list", Short: "All accounts", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			accounts, err := c.Accounts(ctx)
			if err != nil {
				return err
			}
			return list(a, accounts, "",
				column[client.Account]{"Name", func(x client.Account) string { return x.Name }},
				column[client.Account]{"Title", func(x client.Account) string { return x.Title }},
				column[client.Account]{"Role", func(x client.Account) string { return string(x.Role) }},
				column[client.Account]{"Disabled", func(x client.Account) string { return yesNo(x.Disabled) }})
		}),
	})
	return cmd
}

func (a *app) trail() *cobra.Command {
	cmd := &cobra.Command{Use: "trail", Short: "The audit trail: who did what, when, why"}
	var q client.TrailQuery
	var from, to string
	filters := func(c *cobra.Command) {
		f := c.Flags()
		f.StringVar(&q.Actor, "actor", "", "only what this account did")
		f.StringVar(&q.Verb, "verb", "", "only this, such as version.activate, or version for all of a kind")
		f.StringVar(&q.Subject, "subject", "", "only what concerns this, such as tc-007 or counter-desk")
		f.StringVar(&q.Scope, "scope", "", "only what belongs to this, such as 'rollover 3'")
		f.StringVar(&from, "from", "", "from this time on, such as 2026-11-23 or 2026-11-23T08:00:00Z")
		f.StringVar(&to, "to", "", "before this time")
	}
	times := func() (err error) {
		if q.From, err = parseTime(from); err == nil {
			q.To, err = parseTime(to)
		}
		return err
	}
	limit := 50
	listing := &cobra.Command{
		Use: "list", Short: "Entries, newest first", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			if err := times(); err != nil {
				return err
			}
			entries, err := c.Trail(ctx, q, limit)
			if err != nil {
				return err
			}
			return list(a, entries, "No entry is like that.",
				column[client.TrailEntry]{"#", func(e client.TrailEntry) string {
					return strconv.FormatInt(e.Seq,
						10)
				}},
				column[client.TrailEntry]{"At", func(e client.TrailEntry) string { return when(&e.At) }},
				column[client.TrailEntry]{"Who", func(e client.TrailEntry) string { return e.Actor }},
				column[client.TrailEntry]{"What", func(e client.TrailEntry) string { return e.Verb }},
				column[client.TrailEntry]{"Of", func(e client.TrailEntry) string { return e.Subject }},
				column[client.TrailEntry]{"In", func(e client.TrailEntry) string {
					if e.Scope == e.Subject {
						return ""
					}
					return e.Scope
				}},
				column[client.TrailEntry]{"Why", func(e client.TrailEntry) string {
					return cmp.Or(e.Reason,
						detail(e))
				}})
		}),
	}
	filters(listing)
	listing.Flags().IntVar(&limit, "limit", limit, "at most so many, up to 1000")
	var file, expect string
	verify := &cobra.Command{
		Use: "verify", Short: "Verify the chain; exit code 7 if it does not fit", Args: named,
		Long: "Verify the chain of the trail at the service, or of an exported file with --file, here and without " +
			"it.\n" +
			"Note the hash of the last entry elsewhere: with --expect, entries that were cut off at the end are found.",
		RunE: func(cmd *cobra.Command, args []string) error {
			if expect != "" && !hash.MatchString(expect) {
				return usage("--expect %q is no hash: it has 64 hexadecimal digits, as verify prints them", expect)
			}
			if file != "" {
				return a.verifyFile(file, expect)
			}
			return a.run(func(ctx context.Context, c *client.Client, _ []string) error {
				v, err := c.VerifyTrail(ctx, expect)
				if err != nil {
					return err
				}
				return a.verdict(v, expect)
			})(cmd, args)
		},
	}
	verify.Flags().StringVar(&file, "file", "", "verify this export instead (a whole one, from the first entry)")
	verify.Flags().StringVar(&expect, "expect", "", "hash of an entry that has to be there, noted when it was the last")
	var out string
	export := &cobra.Command{
		Use: "export", Short: "Write entries as JSON Lines, oldest first", Args: named,
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			if err := times(); err != nil {
				return err
			}
			if out == "" {
				return c.ExportTrail(ctx, q, a.out)
			}
			f, err := os.OpenFile(out, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if err != nil {
				return err
			}
			return errors.Join(c.ExportTrail(ctx, q, f), f.Close())
		}),
	}
	filters(export)
	export.Flags().StringVar(&out, "to-file", "", "file to write, which must not exist (default: standard output)")
	cmd.AddCommand(listing, verify, export)
	return cmd
}

// detail writes an entry's detail in one line: "track pilot, before 2026.11.2".
func detail(e client.TrailEntry) string {
	var fields map[string]any
	d := json.NewDecoder(bytes.NewReader(e.Detail))
	d.UseNumber() // or large ones would be written as 1.2e+09
	if d.Decode(&fields) != nil {
		return ""
	}
	names := make([]string, 0, len(fields))
	for n, v := range fields {
		if v != nil && v != false && v != "" {
			names = append(names, n)
		}
	}
	sort.Strings(names)
	for i, n := range names {
		text := fmt.Sprint(fields[n])
		if list, ok := fields[n].([]any); ok {
			text = strings.Trim(strings.Join(strings.Split(strings.Trim(fmt.Sprintf("%q", list), "[]"), `" "`), ", "),
				`"`)
		}
		names[i] = strings.ReplaceAll(n, "_", " ") + " " + text
	}
	return Plain(strings.Join(names, ", "))
}

func parseTime(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, nil
	}
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(layout, s); err == nil {
			return t, nil
		}
	}
	return time.Time{}, usage("%q is not a time: write it as 2026-11-23 or 2026-11-23T08:00:00Z", s)
}

// hash is how the hash of an entry is written.
var hash = regexp.MustCompile(`^[0-9a-f]{64}$`)

// verdict shows what verifying entries has found. Expected is a hash that one of them should have, "" for none.
func (a *app) verdict(v client.TrailVerdict, expected string) error {
	filtered := len(v.Breaks) > 0 && !slices.ContainsFunc(v.Breaks,
		func(b client.TrailBreak) bool { return !b.Missing })
	if a.structured() {
		if err := a.object(v); err != nil {
			return err
		}
	} else {
		for i, b := range v.Breaks {
			if filtered && i == 10 {
				a.say("... and %s more", many(len(v.Breaks)-i, "gap"))
				break
			}
			a.say("Entry %d %s", b.Seq, b.Why)
		}
		a.say("%s; the hash of the last is %s", english.Plural(int(v.Entries), "entry", "entries"), v.Last)
	}
	switch n := len(v.Breaks); {
	case filtered:
		return &badOutcome{"entries are missing, and the hashes of the others are correct: the export is " +
			"filtered, " +
			"or entries were removed; export the trail without filters to verify it"}
	case n > 0:
		return &badOutcome{fmt.Sprintf("the trail does not fit together in %s: somebody changed it", many(n, "place"))}
	case expected != "" && v.Expected == 0:
		return &badOutcome{"no entry has the hash " + expected + ": the end of the trail was cut off, or it is " +
			"another trail"}
	}
	a.say("The trail is whole.")
	if expected != "" && !a.structured() {
		a.say("Entry %d has the expected hash; %s came after it.", v.Expected,
			english.Plural(int(v.Entries-v.Expected), "entry", "entries"))
	}
	return nil
}

func (a *app) verifyFile(name, expected string) error {
	f, err := os.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	var v trail.Verdict
	var with trail.Verifier
	for d := json.NewDecoder(f); d.More(); {
		var e trail.Entry
		if err := d.Decode(&e); err != nil {
			return fmt.Errorf("%s: entry %d cannot be read: it is no line of an export of the trail (JSON Lines)", name,
				v.Entries+1)
		}
		v.Check(&with, e, expected)
	}
	out := client.TrailVerdict{Entries: v.Entries, Last: v.Last, Expected: v.Expected, Breaks: []client.TrailBreak{}}
	for _, b := range v.Breaks {
		out.Breaks = append(out.Breaks, client.TrailBreak(b))
	}
	return a.verdict(out, expected)
}
