// Package cli is the command-line client, pane.
//
// Commands read as "pane NOUN VERB"; the few acts that are the job itself are
// at the top level. Lists are tables for people and JSON, YAML or CSV for
// programs. What cannot be undone is asked about first, unless --yes is given.
package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/dustin/go-humanize/english"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"nimblepane/client"
	"nimblepane/core/problem"
)

// Exit codes.
const (
	ExitFailed   = 1 // something unexpected
	ExitUsage    = 2 // the command or its input is wrong
	ExitRefused  = 3 // it cannot be done as things stand
	ExitNotFound = 4 // there is nothing of that name
	ExitNotYou   = 5 // not signed in, or not allowed
	ExitNoAnswer = 6 // the service cannot be reached
	ExitBad      = 7 // a check that was asked for found something: a broken trail, a rollover that did not finish

	ExitInterrupted = 130 // by Ctrl-C, as shells say it
)

// ExitCode returns the exit code for the error of a command.
func ExitCode(err error) int {
	var e *client.Error
	var b *badOutcome
	switch {
	case err == nil:
		return 0
	case errors.Is(err, ErrInterrupted):
		return ExitInterrupted
	case errors.As(err, &b):
		return ExitBad
	case errors.Is(err, errNotSignedIn):
		return ExitNotYou
	case errors.As(err, &e):
		switch e.Status {
		case http.StatusConflict, http.StatusPreconditionFailed:
			return ExitRefused
		case http.StatusNotFound:
			return ExitNotFound
		case http.StatusUnauthorized, http.StatusForbidden:
			return ExitNotYou
		}
		if e.Status < 500 {
			return ExitUsage
		}
		return ExitFailed
	case errors.Is(err, errDeclined), errors.As(err, new(*notDone)):
		return ExitRefused
	case errors.As(err, new(*client.UnreachableError)):
		return ExitNoAnswer
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission): // a file that was named
		return ExitUsage
	case errors.Is(err, errUsage), !errors.As(err, new(*runError)):
		return ExitUsage
	}
	return ExitFailed
}

// ErrInterrupted is the error of a command that was ended by a signal.
var ErrInterrupted = errors.New("interrupted; the service continues what was requested")

// Report writes an error of the command to the person or, with --output json, to a program: an object with the members
// of problem details (RFC 9457) and the exit code. It returns the exit code.
func Report(cmd *cobra.Command, err error, to io.Writer) int {
	if err == nil {
		return ExitCode(nil)
	}
	err = inPlainWords(err)
	code := ExitCode(err)
	if output, _ := cmd.PersistentFlags().GetString("output"); output != "json" {
		fmt.Fprintln(to, "pane:", Plain(err.Error()))
		return code
	}
	problem := struct {
		Type   string               `json:"type"`
		Title  string               `json:"title,omitempty"`
		Status int                  `json:"status,omitempty"`
		Detail string               `json:"detail"`
		Errors []client.ErrorDetail `json:"errors,omitempty"`
		Exit   int                  `json:"exit_code"`
	}{Type: "about:blank", Detail: err.Error(), Exit: code}
	var e *client.Error
	if errors.As(err, &e) {
		problem.Detail = cmp.Or(e.Detail, e.Title)
		problem.Title, problem.Status, problem.Errors = e.Title, e.Status, e.Errors
		problem.Type = cmp.Or(e.Type, problem.Type)
	}
	_ = json.NewEncoder(to).Encode(problem)
	return code
}

var (
	errNotSignedIn = errors.New("you are not signed in: use pane sign-in, or set NIMBLEPANE_URL and NIMBLEPANE_TOKEN")
	errDeclined    = errors.New("nothing was done")
	errUsage       = errors.New("wrong usage")
)

func usage(format string, args ...any) error {
	return fmt.Errorf("%w: %s", errUsage, fmt.Sprintf(format, args...))
}

// runError is the error of a command that has started. Errors before the start are wrong usage.
type runError struct{ error }

func (r *runError) Unwrap() error { return r.error }

// markRunErrors makes the errors of a command and its subcommands run errors.
func markRunErrors(cmd *cobra.Command) {
	if run := cmd.RunE; run != nil {
		cmd.RunE = func(cmd *cobra.Command, args []string) error {
			if err := run(cmd, args); err != nil {
				return &runError{err}
			}
			return nil
		}
	}
	for _, c := range cmd.Commands() {
		markRunErrors(c)
	}
}

// badOutcome is the error of a check that found something.
type badOutcome struct{ text string }

// notDone is the error of a list of which something was not done.
type notDone struct{ why []string }

func (n *notDone) Error() string { return "not done: " + strings.Join(n.why, "\n") }

func (b *badOutcome) Error() string { return b.text }

// app is what the commands share.
type app struct {
	url, token, output string
	yes, wide          bool
	columns            []string // of tables, all if empty
	in                 io.Reader
	lines              *bufio.Reader // of in, once a question was asked
	out, err           io.Writer
}

// plain takes the colours off all tables, once: they are a setting of the process.
var plain = sync.OnceFunc(text.DisableColors)

// New returns the command pane.
func New(version string) *cobra.Command {
	a := &app{}
	cmd := &cobra.Command{
		Use: "pane", Short: "Golden images, pools and rollovers of virtual desktops", Version: version,
		SilenceUsage: true, SilenceErrors: true,
		Long: "pane is the command-line client of Nimble Pane.\n\nA month's work: capture a version, stage it, roll " +
			"the pilot pools, let testers sign, activate it,\nroll production over, and roll back if it turns out " +
			"wrong.\n\nExit codes: 0 done, 1 unexpected failure, 2 wrong usage or input, 3 refused as things " +
			"stand,\n4 not found, 5 not signed in or not allowed, 6 service unreachable, 7 a check found " +
			"something,\n130 " +
			"interrupted. With --output json, errors are JSON objects on standard error.",
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			a.in, a.out, a.err = cmd.InOrStdin(), cmd.OutOrStdout(), cmd.ErrOrStderr()
			if !isTerminal(a.out) || os.Getenv("NO_COLOR") != "" {
				plain()
			}
			switch a.output {
			case "table", "json", "yaml", "csv":
				return nil
			}
			return usage("--output %q: use table, json, yaml or csv", a.output)
		},
	}
	f := cmd.PersistentFlags()
	f.StringVar(&a.url, "url", "", "address of the service (NIMBLEPANE_URL, or what you signed in to)")
	f.StringVar(&a.token, "token", "", "bearer token (NIMBLEPANE_TOKEN, or what you signed in with)")
	f.StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv")
	f.BoolVar(&a.wide, "wide", false, "show all columns of a table, even if it is wider than the window")
	f.StringSliceVar(&a.columns, "columns", nil, "columns of a table to show, in this order, such as name,state")
	f.BoolVarP(&a.yes, "yes", "y", false, "do not ask")
	_ = cmd.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml", "csv"},
		cobra.ShellCompDirectiveNoFileComp))
	cmd.AddGroup(
		&cobra.Group{ID: "job", Title: "The job:"},
		&cobra.Group{ID: "look", Title: "What there is:"},
		&cobra.Group{ID: "people", Title: "You and others:"},
	)
	cmd.AddCommand(a.job()...)
	for _, c := range []*cobra.Command{
		a.today(), a.estate(), a.site(), a.base(), a.feed(), a.sheet(), a.schedule(), a.build(), a.buildMachine(),
		a.image(),
		a.version(), a.software(), a.delivery(), a.flaws(), a.proof(), a.trial(), a.pool(), a.host(), a.session(),
		a.rollover(), a.drift(),
		a.trail(),
	} {
		c.GroupID = "look"
		cmd.AddCommand(c)
	}
	for _, c := range a.people() {
		c.GroupID = "people"
		cmd.AddCommand(c)
	}
	markRunErrors(cmd)
	refuseUnknown(cmd)
	return cmd
}

// checkAddress returns an error if the address is not an HTTP URL.
func checkAddress(address string) error {
	if u, err := url.Parse(address); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return usage("%q is no address of a service: write http:// or https:// with a host", address)
	}
	return nil
}

// refuseUnknown makes a group of commands refuse unknown subcommands, at every level.
func refuseUnknown(cmd *cobra.Command) {
	for _, c := range cmd.Commands() {
		refuseUnknown(c)
	}
	if !cmd.HasSubCommands() || cmd.Runnable() {
		return
	}
	cmd.Args, cmd.DisableFlagsInUseLine = cobra.ArbitraryArgs, true
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		cmd.SuggestionsMinimumDistance = 2
		text := fmt.Sprintf("unknown command %q for %q", args[0], cmd.CommandPath())
		if like := cmd.SuggestionsFor(args[0]); len(like) > 0 {
			return usage("%s; did you mean %s?", text, english.OxfordWordSeries(like, "or"))
		}
		return usage("%s; see %s --help", text, cmd.CommandPath())
	}
}

// client returns a client that is signed in.
func (a *app) client() (*client.Client, error) {
	saved := readSaved()
	at := cmp.Or(a.url, os.Getenv("NIMBLEPANE_URL"), saved.URL)
	token := cmp.Or(a.token, os.Getenv("NIMBLEPANE_TOKEN"))
	if token == "" && at == saved.URL {
		token = saved.Token
	}
	if at == "" || token == "" {
		return nil, errNotSignedIn
	}
	if err := checkAddress(at); err != nil {
		return nil, err
	}
	c := client.New(at, token)
	if a.output != "json" { // JSON says what was said; it escapes what controls a terminal
		c = c.Cleaning(Plain)
	}
	return c, nil
}

// run makes a command's function from one that needs a client.
func (a *app) run(fn func(ctx context.Context, c *client.Client, args []string) error) func(*cobra.Command,
	[]string) error {
	return func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		return fn(cmd.Context(), c, args)
	}
}

// say prints a sentence; programs that read JSON, YAML or CSV are spared it.
func (a *app) say(format string, args ...any) {
	if a.output == "table" {
		fmt.Fprintf(a.out, format+"\n", args...)
	}
}

// ask returns nil if the person agrees.
func (a *app) ask(format string, args ...any) error {
	if a.yes {
		return nil
	}
	if !a.answers() {
		return usage("this needs a yes: answer at a terminal, or give --yes")
	}
	fmt.Fprintf(a.out, format+" [y/N] ", args...)
	switch strings.ToLower(a.line()) {
	case "y", "yes":
		return nil
	}
	return errDeclined
}

// confirmed does an act if the person agrees. What the service would refuse is refused before the question.
func (a *app) confirmed(ctx context.Context, act func(context.Context) error, question string, args ...any) error {
	if !a.yes {
		if err := act(client.DryRun(ctx)); err != nil {
			return err
		}
	}
	if err := a.ask(question, args...); err != nil {
		return err
	}
	return act(ctx)
}

// answers says whether there is somebody who could answer.
func (a *app) answers() bool {
	f, isFile := a.in.(*os.File)
	return !isFile || term.IsTerminal(int(f.Fd()))
}

// line reads what is answered.
func (a *app) line() string {
	if a.lines == nil {
		a.lines = bufio.NewReader(a.in)
	}
	line, _ := a.lines.ReadString('\n') // at its end nothing is answered
	return strings.TrimSpace(line)
}

// prompt asks for a text, unless --yes is given or nobody could answer: then, and where nothing is answered, it is the
// one that is usual.
func (a *app) prompt(question, usual string) string {
	if a.yes || !a.answers() {
		return usual
	}
	fmt.Fprintf(a.out, "%s [%s] ", question, usual)
	return cmp.Or(a.line(), usual)
}

// preview shows what an act would do and asks whether it is to be done, unless
// --yes is given. What is not grave goes on unasked where nobody could answer.
// It returns what the track names that the act moves, if it was looked at.
func (a *app) preview(ctx context.Context, c *client.Client, grave bool, r client.PreviewRequest, question string,
	args ...any,
) (leaves *string, err error) {
	f, isFile := a.in.(*os.File)
	if a.yes || !grave && !(isFile && term.IsTerminal(int(f.Fd()))) {
		return nil, nil
	}
	p, err := c.Preview(ctx, r)
	if err != nil {
		return nil, err
	}
	if p.Refused != "" {
		refused := &client.Error{Type: p.Type, Status: http.StatusConflict, Detail: p.Refused}
		if t, known := problem.FromURI(p.Type); known {
			refused.Status, refused.Title = t.Entry().Status, t.Entry().Title
		}
		for _, why := range p.Reasons {
			refused.Errors = append(refused.Errors, client.ErrorDetail{Message: why})
		}
		return nil, refused
	}
	for _, w := range p.Will {
		a.say("%s", w)
	}
	return &p.Leaves, a.ask(question, args...)
}

func isTerminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// complete completes an argument with names from the estate.
func (a *app) complete(kinds ...func(context.Context, *client.Client, []string) ([]string, error)) func(*cobra.Command,
	[]string, string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		c, err := a.client()
		if err != nil || len(args) >= len(kinds) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(cmd.Context()), 3*time.Second)
		defer cancel()
		list, err := kinds[len(args)](ctx, c, args)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
}

func names[T any](list []T, err error, name func(T) string) ([]string, error) {
	out := make([]string, len(list))
	for i, x := range list {
		out[i] = name(x)
	}
	return out, err
}

func imageNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Images(ctx)
	return names(list, err, func(i client.Image) string { return i.Name + "\t" + i.Title })
}

func sheetNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Sheets(ctx)
	return names(list, err, func(s client.Sheet) string { return s.Name + "\t" + s.Image })
}

func versionNumbers(ctx context.Context, c *client.Client, args []string) ([]string, error) {
	list, err := c.Versions(ctx, args[0])
	return names(list, err, func(v client.Version) string { return v.Number + "\t" + strings.Join(v.Standing, ", ") })
}

func poolNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Pools(ctx)
	return names(list, err, func(p client.Pool) string { return p.Name + "\t" + p.Title })
}

func siteNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Sites(ctx)
	return names(list, err, func(s client.Site) string { return s.Name + "\t" + s.Title })
}

func hostNames(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Hosts(ctx, client.HostQuery{})
	return names(list, err, func(h client.Host) string { return h.Name + "\t" + h.Pool + ", " + string(h.State) })
}

func sessionKeys(ctx context.Context, c *client.Client, args []string) ([]string, error) {
	list, err := c.Sessions(ctx, client.SessionQuery{Host: args[0]})
	return names(list, err, func(s client.Session) string { return s.Key + "\t" + s.Person })
}

func rolloverIDs(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Rollovers(ctx, "", "", false, 20)
	return names(list, err, func(r client.Rollover) string { return fmt.Sprintf("%d\t%s, %s", r.ID, r.Pool, r.State) })
}

func buildIDs(ctx context.Context, c *client.Client, _ []string) ([]string, error) {
	list, err := c.Builds(ctx, "", "", 20)
	return names(list, err, func(b client.Build) string { return fmt.Sprintf("%d\t%s, %s", b.ID, b.Image, b.State) })
}

// completions are states or kinds as the shell completes them.
func completions[S ~string](of []S) []string {
	words := make([]string, len(of))
	for i, s := range of {
		words[i] = string(s)
	}
	return words
}
