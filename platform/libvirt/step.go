package libvirt

import (
	"bytes"
	"context"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/seal"
	"nimblepane/core/secret"
	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// A step of a build sheet is a program in a folder of its own on the machine,
// which systemd runs there, so that it goes on though nobody watches it. Folder
// and unit are named by the operation's key: whoever is asked for the step
// again finds what has become of it, and it is run once. Nothing that comes from
// a sheet is ever part of a command line that a shell reads.

//go:embed step/run.sh
var runScript []byte

//go:embed step/ask.sh
var askScript []byte

//go:embed step/output.sh
var outputScript []byte

//go:embed step/install.sh
var installScript []byte

//go:embed step/remove.sh
var removeScript []byte

//go:embed step/put.sh
var putScript []byte

//go:embed step/unpack.sh
var unpackScript []byte

//go:embed step/fetch.sh
var fetchScript []byte

//go:embed step/update.sh
var updateScript []byte

//go:embed step/locale.sh
var localeScript []byte

//go:embed step/settings.sh
var settingsScript []byte

// stepsFolder is where steps have their folders. Sealing a machine empties what is around it.
const stepsFolder = "/var/lib/nimblepane/steps"

// secretsFolder is where steps find their secrets: in memory, and not on the disk that becomes a version.
const secretsFolder = "/run/nimblepane"

// stepGrace is how long after a step's time limit, which the machine keeps, the
// machine has to say how the step ended.
const stepGrace = 2 * time.Minute

// makeMachine makes a build machine and starts it.
func (s *Site) makeMachine(ctx context.Context, _ string, spec platform.BuildSpec, report func(int)) (
	platform.Nothing, error,
) {
	var done platform.Nothing
	if err := s.createBuild(ctx, spec); err != nil {
		return done, err
	}
	report(20)
	return s.startMachine(ctx, "", platform.Named{Name: spec.Name}, report)
}

// startMachine starts a build machine.
func (s *Site) startMachine(ctx context.Context, _ string, n platform.Named, report func(int)) (platform.Nothing,
	error,
) {
	var done platform.Nothing
	if err := s.PowerOnBuild(ctx, n.Name); err != nil {
		return done, err
	}
	report(40)
	g, err := s.running(ctx, n.Name)
	if err != nil {
		return done, err
	}
	b, err := s.buildMachine(ctx, n.Name)
	if err != nil {
		return done, err
	}
	return done, explain(s.noHost(ctx, b, g))
}

// stopMachine shuts a build machine down.
func (s *Site) stopMachine(ctx context.Context, _ string, n platform.Named, _ func(int)) (platform.Nothing, error) {
	return platform.Nothing{}, s.PowerOffBuild(ctx, n.Name)
}

// discardMachine deletes a build machine with its disk.
func (s *Site) discardMachine(ctx context.Context, _ string, n platform.Named, _ func(int)) (platform.Nothing, error) {
	return platform.Nothing{}, s.Discard(ctx, n.Name)
}

// program is what a step runs, with the files that it wants beside it.
type program struct {
	text                   []byte
	arguments, environment []string
	as                     string   // the account that runs it, "" for root
	secrets                []string // variables, too
	files                  map[string][]byte
	content                string // digest of what is in the file "content" beside it, "" if there is none
}

// programOf returns what does a step, of one of the kinds that have a program.
func programOf(s sheet.Step) (program, error) {
	switch {
	case s.Script != nil:
		return program{
			text: []byte(s.Script.Text), arguments: s.Script.Arguments, environment: assigned(s.Script.Environment),
			as: s.Script.As,
		}, nil
	case s.Put != nil && s.Put.Folder != "":
		return program{
			text: unpackScript, arguments: []string{s.Put.Owner, s.Put.To, s.Put.Content.SHA256},
			content: s.Put.Content.SHA256,
		}, nil
	case s.Put != nil && s.Put.Source != "":
		return program{
			text: putScript, arguments: []string{s.Put.Mode, s.Put.Owner, s.Put.To, s.Put.Content.SHA256},
			content: s.Put.Content.SHA256,
		}, nil
	case s.Put != nil:
		return program{
			text: putScript, arguments: []string{s.Put.Mode, s.Put.Owner, s.Put.To},
			files: map[string][]byte{"content": []byte(s.Put.Text)},
		}, nil
	case s.Fetch != nil:
		return program{
			text:      fetchScript,
			arguments: []string{s.Fetch.Mode, s.Fetch.Owner, s.Fetch.To, s.Fetch.From, s.Fetch.SHA256},
		}, nil
	case s.Install != nil:
		return program{text: installScript, arguments: s.Install.Packages}, nil
	case s.Remove != nil:
		return program{
			text: removeScript, arguments: slices.Concat(s.Remove.Files, []string{"packages:"}, s.Remove.Packages),
		}, nil
	case s.Update != nil:
		return program{text: updateScript, arguments: []string{string(s.Update.Only)}}, nil
	case s.Locale != nil:
		return program{
			text: localeScript, arguments: []string{s.Locale.TimeZone, s.Locale.Language, s.Locale.Keyboard},
		}, nil
	case s.Settings != nil:
		p := program{
			text: settingsScript, arguments: slices.Sorted(maps.Keys(s.Settings.Home)),
			files: map[string][]byte{
				"variables": listed(assigned(s.Settings.Environment)), "person": []byte(s.Settings.Person),
				"paths": listed(s.Settings.Paths),
			},
		}
		for i, name := range p.arguments {
			p.files[fmt.Sprintf("file-%d", i)] = []byte(s.Settings.Home[name])
		}
		return p, nil
	}
	return program{}, refuse("step %q does nothing that can be done here", s.Name)
}

// assigned writes variables as programs are given them.
func assigned(variables map[string]string) (list []string) {
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		list = append(list, name+"="+variables[name])
	}
	return list
}

// listed writes texts as files list them that a shell reads with mapfile: each ends with a zero.
func listed(texts []string) []byte {
	var b bytes.Buffer
	for _, t := range texts {
		b.WriteString(t)
		b.WriteByte(0)
	}
	return b.Bytes()
}

// stepOn is a step on a machine.
type stepOn struct {
	guest
	folder, unit string
	file         func(ctx context.Context, digest string) io.ReadCloser
	values       secret.Values // that its output must not show
}

func stepFor(g guest, key string) stepOn {
	sum := sha256.Sum256([]byte(key))
	id := hex.EncodeToString(sum[:8])
	if g.windows {
		return stepOn{guest: g, folder: path.Join(windowsSteps, id), unit: "nimblepane-step-" + id}
	}
	return stepOn{guest: g, folder: path.Join(stepsFolder, id), unit: "nimblepane-step-" + id + ".service"}
}

// ask has a verb of ask.sh done, and returns what it printed.
func (s stepOn) ask(ctx context.Context, verb string, more ...string) (string, error) {
	if s.windows {
		return s.askWindows(ctx, verb, more...)
	}
	o, err := s.exec(ctx, platform.Command{
		Path: "/bin/bash", Args: append([]string{"-s", "--", verb, s.folder, s.unit}, more...), Input: askScript,
	})
	if err != nil {
		return "", err
	}
	if o.ExitCode != 0 {
		return "", fmt.Errorf("%s on %s ended with exit code %d: %s", verb, s.domain.Name, o.ExitCode,
			bytes.TrimSpace(o.Errors))
	}
	return strings.TrimSpace(string(o.Output)), nil
}

// doStep does a step, or goes on waiting for one that was begun under the key.
func (s *Site) doStep(ctx context.Context, key string, o platform.StepOrder, _ func(int)) (done platform.StepDone,
	err error,
) {
	g, err := s.running(ctx, o.BuildMachine)
	if err != nil {
		return done, err
	}
	values := secret.Values{}
	for name, source := range o.Secrets {
		if values[name], err = s.secrets(source); err != nil {
			return done, refuse("secret %s: %s", name, err)
		}
	}
	// What the step says of itself is kept.
	defer func() {
		done.Output = values.Hide(done.Output)
		if refused := (*platform.Refusal)(nil); errors.As(err, &refused) {
			refused.Why = values.Hide(refused.Why)
		}
	}()
	step, limit := stepFor(g, key), time.Duration(o.Step.TimeLimit)
	within, cancel := context.WithTimeout(ctx, limit+stepGrace)
	defer cancel()
	switch {
	case o.Step.Restart != nil:
		done, err = s.restart(within, step, o.BuildMachine)
	case o.Step.Update != nil:
		done, err = s.update(within, g, key, o, limit)
	case o.Step.Checkpoint != nil:
		_, err = s.checkpointMachine(within, key, o.Checkpoint(), func(int) {})
		done.Output = platform.CheckpointOutput
	default:
		step.file, step.values = s.file, values
		done, err = step.run(within, o.Step, values, limit)
	}
	if err != nil && within.Err() != nil && ctx.Err() == nil {
		if o.Step.Restart != nil {
			return done, refuse("the machine was not back within %s: look at its console", o.Step.TimeLimit)
		}
		return done, refuse("it did not end within %s, and the machine does not say whether it still goes on: %s",
			o.Step.TimeLimit, err)
	}
	return done, err
}

// run begins the step unless it was begun, and waits for its end.
func (s stepOn) run(ctx context.Context, step sheet.Step, values secret.Values, limit time.Duration) (
	done platform.StepDone, err error,
) {
	p, err := programOf(step)
	if err != nil {
		return done, err
	}
	if step.Script != nil {
		for _, variable := range slices.Sorted(maps.Keys(step.Script.Secrets)) {
			p.secrets = append(p.secrets, variable+"="+values[step.Script.Secrets[variable]])
		}
	}
	if s.windows {
		if p, err = p.onWindows(windowsScriptOf(step)); err != nil {
			return done, err
		}
	}
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 2*time.Second) {
		state, err := s.ask(ctx, "look")
		if gone := (*lost)(nil); errors.As(err, &gone) {
			continue // what has become of the step is seen when the machine is back
		}
		if err != nil {
			return done, s.whether(ctx, err)
		}
		state, detail, _ := strings.Cut(state, " ")
		switch state {
		case "new":
			if err := s.begin(ctx, p, limit); err != nil {
				return done, s.whether(ctx, err)
			}
		case "ended":
			code, used, _ := strings.Cut(detail, " ")
			if done.ExitCode, err = strconv.Atoi(code); err != nil {
				return done, refuse("the machine says that the step ended with %q, which is no exit code", code)
			}
			done.Used = usedBy(used)
			done.Output, err = s.output(ctx)
			return done, s.whether(ctx, err)
		case "restarted":
			return done, s.broken(ctx, "the machine went down while it ran: restart it with a step of its own")
		case "cut":
			why := "it was ended by " + detail
			if detail == "timeout" {
				why = fmt.Sprintf("it did not end within %s, and was ended", step.TimeLimit)
			}
			return done, s.broken(ctx, why)
		}
		if err := pause(ctx, wait); err != nil {
			return done, err
		}
	}
}

// usedBy reads what a step used, as ask.sh says it: processors, memory of the machine and most of it in use in KiB, and
// the time in user and system mode, such as 0m1.234s. What cannot be read was not measured.
func usedBy(text string) (u platform.Used) {
	var of, most int64
	var user, system string
	if _, err := fmt.Sscan(text, &u.Cores, &of, &most, &user, &system); err != nil {
		return platform.Used{}
	}
	for _, t := range []string{user, system} {
		d, err := time.ParseDuration(t)
		if err != nil {
			return platform.Used{}
		}
		u.CPUSeconds += d.Seconds()
	}
	u.Of, u.Memory = of<<10, most<<10
	return u
}

// begin puts the program on the machine and has it run there.
func (s stepOn) begin(ctx context.Context, p program, limit time.Duration) error {
	if _, err := s.ask(ctx, "prepare"); err != nil {
		return err
	}
	files := map[string][]byte{
		"run": runScript, "program": p.text, "arguments": listed(p.arguments), "environment": listed(p.environment),
		"as": []byte(p.as),
	}
	if s.windows { // where a file's name says what it is
		files["run.ps1"], files["program.ps1"] = windowsScript("run"), p.text
		delete(files, "run")
		delete(files, "program")
	}
	maps.Copy(files, p.files)
	if len(p.secrets) > 0 {
		files["secret"] = nil // says that there are some
		if err := s.put(ctx, path.Join(secretsFolder, s.unit), bytes.NewReader(listed(p.secrets))); err != nil {
			return err
		}
	}
	for name, content := range files {
		if err := s.put(ctx, path.Join(s.folder, name), bytes.NewReader(content)); err != nil {
			return err
		}
	}
	if p.content != "" {
		from := s.file(ctx, p.content)
		err := s.put(ctx, path.Join(s.folder, "content"), from)
		if err := errors.Join(err, from.Close()); err != nil {
			return err
		}
	}
	_, err := s.ask(ctx, "begin", strconv.Itoa(int(limit/time.Second)))
	return err
}

// output returns the last of what the step has written. Secrets are hidden before it is cut: the rest of one would be
// found by nothing.
func (s stepOn) output(ctx context.Context) (string, error) {
	n := platform.StepOutput + s.values.Longest()
	command := platform.Command{
		Path: "/usr/bin/tail", Args: []string{"-c", strconv.Itoa(n), path.Join(s.folder, "output")},
	}
	if s.windows {
		command = windowsAsk("output", s.folder, s.unit, 0, int64(-n), int64(n))
	}
	o, err := s.exec(ctx, command)
	text := s.values.Tail(string(o.Output), platform.StepOutput)
	return strings.ToValidUTF8(strings.ReplaceAll(text, "\x00", ""), "\uFFFD"), err
}

// outputPiece is how much of what a step has written is read at once, in bytes.
const outputPiece = 512 << 10

// Output reads what a step has written so far on its machine.
func (s *Site) Output(ctx context.Context, key string, from int64) ([]byte, error) {
	op, err := s.operations.Operation(ctx, key)
	if err != nil || op.Kind != string(platform.DoStep) {
		return nil, err
	}
	o, err := platform.DoStep.Input(op)
	if err != nil || o.Step.Restart != nil || o.Step.Checkpoint != nil {
		return nil, err
	}
	g, err := s.running(ctx, o.BuildMachine)
	if err != nil {
		return nil, err
	}
	keys := []string{key}
	if o.Step.Update != nil {
		keys = nil
		for round := 1; round <= sheet.MostRounds; round++ {
			keys = append(keys, roundKey(key, round))
		}
	}
	if g.windows { // of updates, what the last round wrote is said at its end
		step := stepFor(g, keys[0])
		written, err := g.exec(ctx, windowsAsk("output", step.folder, step.unit, 0, from, outputPiece))
		return written.Output, err
	}
	args := []string{"-s", "--", strconv.FormatInt(from, 10), strconv.Itoa(outputPiece)}
	for _, k := range keys {
		args = append(args, stepFor(g, k).folder)
	}
	written, err := g.exec(ctx, platform.Command{Path: "/bin/bash", Args: args, Input: outputScript})
	return written.Output, err
}

// roundKey is the key of a round of updates.
func roundKey(key string, round int) string { return fmt.Sprintf("%s round %d", key, round) }

// broken is the error of a step that came to no end, with the last line that it wrote.
func (s stepOn) broken(ctx context.Context, why string) error {
	output, err := s.output(ctx)
	if err != nil {
		return s.whether(ctx, err)
	}
	if last := lastLine(output); last != "" {
		why += "; last it wrote: " + last
	}
	return refuse("%s", why)
}

func lastLine(text string) string {
	text = strings.TrimSpace(text)
	return text[strings.LastIndexByte(text, '\n')+1:]
}

// whether turns the error of a machine that is off by now into a refusal.
func (s stepOn) whether(ctx context.Context, err error) error {
	var answer libvirt.Error
	if !errors.As(err, &answer) {
		return err
	}
	const off = "the machine is off: a step, or somebody, powered it off"
	if libvirt.ErrorNumber(answer.Code) == libvirt.ErrOperationInvalid {
		return refuse(off) // what libvirt answers of a domain that does not run, though its state may not say so yet
	}
	m := machine{}
	if serr := s.hypervisor.connected(ctx, func(l *libvirt.Libvirt) (err error) {
		m, err = s.hypervisor.read(l, s.domain)
		return err
	}); serr != nil {
		return errors.Join(err, serr)
	}
	if !m.active() {
		return refuse(off)
	}
	return err
}

// restart restarts the machine unless it was restarted under the key, and waits
// until its start is over.
func (s *Site) restart(ctx context.Context, step stepOn, name string) (done platform.StepDone, err error) {
	prepared := false
	for {
		state := ""
		if prepared {
			state, err = step.ask(ctx, "restart")
		} else {
			_, err = step.ask(ctx, "prepare")
			prepared = err == nil
		}
		switch {
		case err == nil && (state == "running" || state == "degraded"):
			return platform.StepDone{Output: "the machine went down and came up\n"}, nil
		case err != nil && !asAnswer(err) && !errors.As(err, new(*lost)):
			return done, err
		case err != nil:
			// While it goes down and comes up there is nobody in it who answers. One that stayed down is started.
			if err := s.PowerOnBuild(ctx, name); err != nil {
				return done, err
			}
		}
		if err := pause(ctx, time.Second); err != nil {
			return done, err
		}
	}
}

// stillPending is the exit code of the program that applies updates when some are pending still.
const stillPending = 11

// wantsRestart says whether a machine has to be restarted for what was installed.
func (s *Site) wantsRestart(ctx context.Context, g guest) (bool, error) {
	if g.windows {
		pending, err := stepFor(g, "").ask(ctx, "restart-pending")
		return pending == "yes", err
	}
	facts, err := s.inspect(ctx, g, "--only", seal.RestartPending)
	return facts.RestartPending != "", err
}

// update applies updates until none is pending, and restarts the machine in between if one is needed. Each round and
// each restart is found again by a key of its own.
func (s *Site) update(ctx context.Context, g guest, key string, o platform.StepOrder, limit time.Duration) (
	done platform.StepDone, err error,
) {
	output, begun := "", time.Now()
	for round := 1; round <= sheet.MostRounds; round++ {
		last, err := stepFor(g, roundKey(key, round)).run(ctx, o.Step, nil,
			max(time.Second, limit-time.Since(begun)))
		if err != nil {
			return done, err
		}
		output += fmt.Sprintf("Round %d\n%s", round, last.Output)
		used := last.Used
		used.CPUSeconds, used.Memory = used.CPUSeconds+done.Used.CPUSeconds, max(used.Memory, done.Used.Memory)
		done = platform.StepDone{
			ExitCode: last.ExitCode, Output: output[max(0, len(output)-platform.StepOutput):], Used: used,
		}
		if last.ExitCode != 0 && last.ExitCode != stillPending {
			return done, nil
		}
		restarting := false
		if *o.Step.Update.Restart {
			if restarting, err = s.wantsRestart(ctx, g); err != nil {
				return done, err
			}
		}
		if restarting {
			step := stepFor(g, fmt.Sprintf("%s restart %d", key, round))
			if _, err := s.restart(ctx, step, o.BuildMachine); err != nil {
				return done, err
			}
			output += "the machine went down and came up\n"
			done.Output = output[max(0, len(output)-platform.StepOutput):]
		}
		if last.ExitCode == 0 {
			return done, nil
		}
	}
	return done, refuse("updates are pending still after %d rounds; last it wrote: %s", sheet.MostRounds,
		lastLine(done.Output))
}

// inspectMachine has pane-agent look for what should not be on a machine that is sealed.
func (s *Site) inspectMachine(ctx context.Context, key string, in platform.Inspection, report func(int)) (f seal.Facts,
	err error,
) {
	g, err := s.running(ctx, in.BuildMachine)
	if err != nil {
		return f, err
	}
	var args []string
	for _, pattern := range in.Refuse {
		args = append(args, "--refuse", pattern)
	}
	if f, err = s.inspect(ctx, g, args...); err != nil {
		return f, err
	}
	for i, script := range in.Own {
		report(50 + 50*i/len(in.Own))
		step := sheet.Step{
			Name: script.Check, Script: &sheet.Script{Text: script.Text}, TimeLimit: sheet.Span(platform.OwnCheckLimit),
		}
		ended, err := stepFor(g, key+" "+script.Check).run(ctx, step, nil, platform.OwnCheckLimit)
		found := script.Ended(ended.ExitCode, ended.Output)
		if refused := (*platform.Refusal)(nil); errors.As(err, &refused) {
			found, err = script.Unmade(refused.Why), nil
		}
		if err != nil {
			return f, err
		}
		if found != nil {
			f.Own = append(f.Own, *found)
		}
	}
	return f, nil
}

// mostFacts is how much pane-agent may find on a machine, in bytes.
const mostFacts = 1 << 20

// inspect has pane-agent look for facts of a machine.
func (s *Site) inspect(ctx context.Context, g guest, args ...string) (f seal.Facts, err error) {
	limited, cancel := context.WithTimeout(ctx, s.limits.seal)
	defer cancel()
	o, err := g.exec(limited, platform.Command{Path: agentPath, Args: append([]string{"inspect"}, args...)})
	switch {
	case err != nil && asAnswer(err) && !absent(err):
		return f, refuse("the machine could not be looked at: pane-agent did not run in it (%s): install the package "+
			"pane-agent", err)
	case err != nil && limited.Err() != nil && ctx.Err() == nil:
		return f, refuse("the machine could not be looked at: pane-agent did not end within %s", s.limits.seal)
	case err != nil:
		return f, err
	case o.ExitCode != 0 && bytes.Contains(o.Errors, []byte("unknown ")):
		return f, refuse("the machine could not be looked at: %s: its pane-agent is older than this service, install "+
			"the package of the same version", bytes.TrimSpace(o.Errors))
	case o.ExitCode != 0:
		return f, refuse("the machine could not be looked at: %s", bytes.TrimSpace(o.Errors))
	}
	if len(o.Output) > mostFacts {
		return f, refuse("the machine could not be looked at: pane-agent found more than %d bytes of things that "+
			"should not be there", mostFacts)
	}
	var seen seal.Seen
	if err := json.Unmarshal(storable(o.Output), &seen); err != nil {
		return f, refuse("the machine could not be looked at: pane-agent printed %.200q, and not what it found",
			o.Output)
	}
	f = seen.Facts
	f.Own = nil // what our own scripts find is not the machine's to say
	f.ClockOff = time.Until(seen.Clock).Seconds()
	return f, nil
}

// storable is the JSON that a machine printed without what no record can have: a zero, or bytes that are no text.
func storable(printed []byte) []byte {
	return bytes.ReplaceAll(bytes.ToValidUTF8(printed, []byte("\uFFFD")), []byte(`\u0000`), []byte(`\uFFFD`))
}

// sealMachine seals a build machine and powers it off.
func (s *Site) sealMachine(ctx context.Context, _ string, in platform.Seal, report func(int)) (done platform.Sealed,
	err error,
) {
	b, err := s.buildMachine(ctx, in.BuildMachine)
	if err != nil {
		return done, err
	}
	m := b.machine
	if len(m.tag.Sealed) == 0 {
		if m, err = s.seal(ctx, b.hypervisor, m, in.Stamp, in.Commands, report); err != nil {
			return done, err
		}
	}
	if m.tag.Stamp != in.Stamp {
		return done, sealedAs(m, in.Stamp)
	}
	report(70)
	return platform.Sealed{Sealing: m.tag.Sealed}, b.guest().shutdown(ctx, s.limits.shutdown)
}

// sealedAlready is the refusal to do something on a sealed machine.
func sealedAlready(m machine) error {
	return refuse("build machine %s is sealed and off: it is not started again", m.name)
}

// sealedAs is the refusal of a machine that is sealed as another version.
func sealedAs(m machine, stamp string) error {
	return refuse("build machine %s is sealed as %s, and cannot become %s", m.name, m.tag.Stamp, stamp)
}
