package world

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"nimblepane/core/seal"
	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// interior is what was done on a build machine that the service had made.
type interior struct {
	Spec     platform.BuildSpec `json:"spec"`
	Packages []string           `json:"packages"`
	Software installed          `json:"software,omitempty"` // on it, from what it was made from and since
	Files    map[string][]byte  `json:"files"`              // what was put, by path
	Updates  []UpdateSpec       `json:"updates,omitempty"`  // that are pending
	Restart  string             `json:"restart,omitempty"`
	Stamp    string             `json:"stamp,omitempty"` // with which it was sealed
	Off      bool               `json:"off,omitempty"`

	Checkpoints []checkpoint `json:"checkpoints,omitempty"`
}

// checkpoint is what was in a build machine.
type checkpoint struct {
	Name string          `json:"name"`
	Held json.RawMessage `json:"held"` // an interior
}

// Package is one that a scenario's package manager has.
type Package struct {
	Name    string `yaml:"name"`
	Restart bool   `yaml:"restart"` // the machine wants a restart after it
}

// UpdateSpec is an update that is pending on build machines when they are made.
type UpdateSpec struct {
	Name     string `yaml:"name" json:"name"`                 // of the package
	Version  string `yaml:"version" json:"version,omitempty"` // that it brings
	Security bool   `yaml:"security" json:"security,omitempty"`
	Restart  bool   `yaml:"restart" json:"restart,omitempty"` // the machine wants a restart after it
}

// DownloadSpec is a file that build machines can fetch.
type DownloadSpec struct {
	From   string `yaml:"from"`   // its address
	SHA256 string `yaml:"sha256"` // the digest of what comes from there
}

// ScriptSpec says what becomes of scripts that hold a text.
type ScriptSpec struct {
	Holds    string        `yaml:"holds"`
	Takes    time.Duration `yaml:"takes"`
	ExitCode int           `yaml:"exit-code"`
	Output   string        `yaml:"output"`
}

// UsualStep is how long a step takes at a site that does not say.
const UsualStep = 20 * time.Second

func init() {
	playing(platform.CopyHost, act.beginCopy, act.endCopy)
	playing(platform.MakeMachine, act.beginMachine, act.endMachine)
	playing(platform.StartMachine, act.beginStart, act.endStart)
	playing(platform.StopMachine, act.beginStop, act.endStop)
	playing(platform.DoStep, act.beginStep, act.endStep)
	playing(platform.InspectMachine, act.beginInspection, act.endInspection)
	playing(platform.SealMachine, act.beginSealing, act.endSealing)
	playing(platform.CheckpointMachine, act.beginCheckpoint, act.endCheckpoint)
	playing(platform.RevertMachine, act.beginRevert, act.endRevert)
	playing(platform.DiscardMachine, act.discardMachine, nothing)
}

// beginCopy has a host's machine go off.
func (a act) beginCopy(c platform.HostCopy) (time.Duration, error) {
	k := a.at.Spec.Knobs
	b, m := a.buildMachine(a.Site, c.Spec.Name), a.state.Machines[c.Host]
	switch {
	case b != nil && b.Built != nil && b.Built.Spec.Host == c.Host:
		return 0, nil
	case b != nil:
		return 0, refuse("there is a build machine %q at %s already, made from %s", b.Name, a.Site, b.Base)
	case m == nil || m.Site != a.Site:
		return 0, refuse("host %s has no machine at %s", c.Host, a.Site)
	}
	m.Off = true
	for _, s := range m.Sessions {
		a.sessionEnded(s.Person, a.now)
	}
	m.Sessions = nil
	return a.vary(k.Clone, k.Spread), nil
}

// endCopy makes a build machine of what was on the host.
func (a act) endCopy(c platform.HostCopy) (done platform.Nothing, err error) {
	m := a.state.Machines[c.Host]
	switch {
	case a.buildMachine(a.Site, c.Spec.Name) != nil:
		return done, nil
	case m == nil:
		return done, refuse("the machine of host %s was deleted while its disk was copied", c.Host)
	case a.happens(a.at.Spec.Knobs.chance(CloneFails, c.Host)):
		m.Off = false
		return done, refuse("the storage gave up: write error on the copy of the disk of %s", c.Host)
	}
	_, err = a.endMachine(c.Spec)
	if b := a.buildMachine(a.Site, c.Spec.Name); b != nil {
		b.Built.Off = true
	}
	return done, err
}

func (a act) beginMachine(s platform.BuildSpec) (time.Duration, error) {
	k := a.at.Spec.Knobs
	if b := a.buildMachine(a.Site, s.Name); b != nil {
		if b.Built == nil || b.Built.Spec.Base != s.Base {
			return 0, refuse("there is a build machine %q at %s already, made from %s", s.Name, a.Site, b.Base)
		}
		if b.Built.Off && s.Host != "" {
			return k.Boot, nil
		}
		return 0, nil
	}
	if s.Host != "" {
		return 0, refuse("the disk of host %s was not copied for build machine %s", s.Host, s.Name)
	}
	if s.BaseDisk == "" && !slices.ContainsFunc(s.Copies, func(c string) bool {
		d, ok := a.at.Copies[c]
		return ok && d.Digest == s.Digest
	}) {
		return 0, refuse("none of the copies %s is at %s", strings.Join(s.Copies, ", "), a.Site)
	}
	return a.vary(k.Clone+k.Boot, k.Spread), nil
}

func (a act) endMachine(s platform.BuildSpec) (platform.Nothing, error) {
	if b := a.buildMachine(a.Site, s.Name); b != nil {
		b.Built.Off = false
	} else {
		a.state.BuildMachines = append(a.state.BuildMachines, &buildMachine{
			BuildMachine: BuildMachine{Name: s.Name, Site: a.Site, MachineClass: s.MachineClass, Base: s.Base},
			Built: &interior{
				Spec: s, Files: map[string][]byte{}, Updates: slices.Clone(a.state.Updates),
				Software: a.before(a.madeFrom(s), s.MachineClass),
			},
		})
	}
	return platform.Nothing{}, nil
}

// madeFrom is the digest of the disk that a build machine is made from, "" if it is a base disk.
func (a act) madeFrom(s platform.BuildSpec) string {
	if m := a.state.Machines[s.Host]; s.Host != "" && m != nil {
		for _, d := range a.state.Disks {
			if d.Stamp == m.Stamp {
				return d.Digest
			}
		}
	}
	return s.Digest
}

func (a act) beginStart(n platform.Named) (time.Duration, error) {
	_, err := a.unsealed(n.Name)
	return a.at.Spec.Knobs.Boot, err
}

func (a act) endStart(n platform.Named) (platform.Nothing, error) {
	b, err := a.unsealed(n.Name)
	if err == nil {
		b.Built.Off = false
	}
	return platform.Nothing{}, err
}

func (a act) beginStop(n platform.Named) (time.Duration, error) {
	_, err := a.unsealed(n.Name)
	return a.at.Spec.Knobs.Boot, err
}

func (a act) endStop(n platform.Named) (platform.Nothing, error) {
	b, err := a.unsealed(n.Name)
	if err == nil {
		b.Built.Off = true
	}
	return platform.Nothing{}, err
}

func (a act) beginCheckpoint(c platform.Checkpoint) (time.Duration, error) {
	_, err := a.unsealed(c.BuildMachine)
	return 2 * a.at.Spec.Knobs.Boot, err
}

func (a act) endCheckpoint(c platform.Checkpoint) (platform.Nothing, error) {
	b, err := a.unsealed(c.BuildMachine)
	if err != nil {
		return platform.Nothing{}, err
	}
	if m := b.Built; m.checkpoint(c.Checkpoint) < 0 {
		held, err := json.Marshal(m)
		if err != nil {
			return platform.Nothing{}, err
		}
		m.Checkpoints = append(m.Checkpoints, checkpoint{c.Checkpoint, held})
	}
	b.Built.Off = !c.Start
	return platform.Nothing{}, nil
}

func (m *interior) checkpoint(name string) int {
	return slices.IndexFunc(m.Checkpoints, func(c checkpoint) bool { return c.Name == name })
}

func (a act) beginRevert(c platform.Checkpoint) (time.Duration, error) {
	b, err := a.madeHere(c.BuildMachine)
	if err == nil && b.Built.checkpoint(c.Checkpoint) < 0 {
		err = refuse("build machine %s has no checkpoint %q", b.Name, c.Checkpoint)
	}
	return a.at.Spec.Knobs.Boot, err
}

func (a act) endRevert(c platform.Checkpoint) (done platform.Nothing, err error) {
	b, err := a.madeHere(c.BuildMachine)
	if err != nil {
		return done, err
	}
	i := b.Built.checkpoint(c.Checkpoint)
	if i < 0 {
		return done, refuse("build machine %s has no checkpoint %q", b.Name, c.Checkpoint)
	}
	kept, then := b.Built.Checkpoints[:i+1], &interior{}
	if err := json.Unmarshal(kept[i].Held, then); err != nil {
		return done, err
	}
	then.Checkpoints, then.Off = kept, false
	b.Built = then
	return done, nil
}

// running returns the build machine if things can be done on it.
func (a act) running(name string) (*buildMachine, error) {
	b, err := a.unsealed(name)
	if err == nil && b.Built.Off {
		return nil, refuse("build machine %s is off: start it first", name)
	}
	return b, err
}

// unsealed returns the build machine if it was made here and is not sealed.
func (a act) unsealed(name string) (*buildMachine, error) {
	b, err := a.madeHere(name)
	if err == nil && b.Built.Stamp != "" {
		err = refuse("build machine %s is sealed and off: it is not started again", name)
	}
	return b, err
}

// madeHere returns the build machine if the service had it made.
func (a act) madeHere(name string) (*buildMachine, error) {
	b := a.buildMachine(a.Site, name)
	switch {
	case b == nil:
		return nil, refuse("there is no build machine %q at %s", name, a.Site)
	case b.Built == nil:
		return nil, refuse("build machine %s belongs to the scenario: nothing is played in it", name)
	}
	return b, nil
}

func (a act) beginStep(o platform.StepOrder) (time.Duration, error) {
	if _, err := a.running(o.BuildMachine); err != nil {
		return 0, err
	}
	takes := a.at.Spec.Knobs.Step
	if takes == 0 {
		takes = UsualStep
	}
	if s := a.script(o.Step); s != nil && s.Takes > 0 {
		takes = s.Takes
	}
	switch {
	case o.Step.Restart != nil:
		takes = a.at.Spec.Knobs.Boot
	case o.Step.Checkpoint != nil:
		takes = 2 * a.at.Spec.Knobs.Boot
	case o.Step.Update != nil:
		takes += a.at.Spec.Knobs.Boot
	}
	return min(takes, time.Duration(o.Step.TimeLimit)), nil
}

// script returns what the scenario says of a step's script, nil if nothing.
func (a act) script(s sheet.Step) *ScriptSpec {
	if s.Script == nil {
		return nil
	}
	return a.spec(s.Script.Text)
}

// spec returns what the scenario says of what is run, nil if nothing.
func (w *World) spec(text string) *ScriptSpec {
	for i, spec := range w.state.Scripts {
		if strings.Contains(text, spec.Holds) {
			return &w.state.Scripts[i]
		}
	}
	return nil
}

// mostOfFile is how large a file of a build machine may be here, in bytes: the world is kept as a whole.
const mostOfFile = 1 << 20

// inside calls fn with what is in a build machine that runs.
func (w *World) inside(siteName, name string, fn func(*interior) error) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	at, known := w.state.Sites[siteName]
	if !known {
		return errNoSite
	}
	b, err := act{w, &operation{Site: siteName}, "", at, w.now()}.running(name)
	if err != nil {
		return err
	}
	return fn(b.Built)
}

// exec plays a program that is run in a build machine, which takes no time.
func (w *World) exec(siteName, name string, c platform.Command) (o platform.Outcome, err error) {
	err = w.inside(siteName, name, func(*interior) error {
		line := strings.Join(append([]string{c.Path}, c.Args...), " ")
		o.Output = []byte("ran " + line + "\n")
		if s := w.spec(line); s != nil {
			o.ExitCode, o.Output = s.ExitCode, []byte(s.Output)
		}
		return nil
	})
	return o, err
}

func (w *World) putFile(siteName, name, file string, content []byte) error {
	if len(content) > mostOfFile {
		return refuse("a file of a practice machine has at most %d bytes, and this one has %d", mostOfFile,
			len(content))
	}
	return w.inside(siteName, name, func(m *interior) error {
		m.Files[file], w.dirty = content, true
		return nil
	})
}

func (w *World) getFile(siteName, name, file string) (content []byte, err error) {
	err = w.inside(siteName, name, func(m *interior) error {
		var there bool
		if content, there = m.Files[file]; !there {
			return refuse("there is no file %s on %s", file, name)
		}
		return nil
	})
	return content, err
}

func (a act) endStep(o platform.StepOrder) (done platform.StepDone, err error) {
	b, err := a.running(o.BuildMachine)
	if err != nil {
		return done, err
	}
	done, err = a.step(b.Built, o)
	if s := o.Step; err == nil && s.Restart == nil && s.Checkpoint == nil {
		takes, _ := a.beginStep(o)
		done.Used = b.Built.used(takes)
	}
	return done, err
}

// used plays what a step uses: a core and a half, and memory for what is installed.
func (m *interior) used(takes time.Duration) platform.Used {
	const cores, memory = 4, 8 << 30 // of a machine whose order leaves it to its class
	u := platform.Used{Cores: cmp.Or(m.Spec.Size.Cores, cores), Of: cmp.Or(m.Spec.Size.Memory, memory)}
	u.CPUSeconds = takes.Seconds() * min(1.5, float64(u.Cores))
	u.Memory = min(u.Of, 1200<<20+int64(len(m.Packages))*(96<<20))
	return u
}

// step plays a step inside a machine.
func (a act) step(m *interior, o platform.StepOrder) (done platform.StepDone, err error) {
	switch s := o.Step; {
	case s.Script != nil:
		spec := a.script(s)
		if spec == nil {
			return platform.StepDone{Output: "ran " + firstLine(s.Script.Text) + "\n"}, nil
		}
		if spec.Takes >= time.Duration(s.TimeLimit) {
			return done, refuse("it did not end within %s, and was ended", s.TimeLimit)
		}
		last := spec.Output[max(0, len(spec.Output)-platform.StepOutput):]
		return platform.StepDone{ExitCode: spec.ExitCode, Output: last}, nil
	case s.Put != nil && s.Put.Content != nil: // what is in it stays with the service
		text := fmt.Sprintf("%d bytes with the digest %s\n", s.Put.Content.Size, s.Put.Content.SHA256)
		m.write(s.Put.To, text)
		return platform.StepDone{Output: "wrote " + text}, nil
	case s.Put != nil:
		return m.write(s.Put.To, s.Put.Text), nil
	case s.Fetch != nil:
		return a.fetch(m, *s.Fetch), nil
	case s.Update != nil:
		return a.update(m, *s.Update), nil
	case s.Locale != nil:
		return m.localize(*s.Locale), nil
	case s.Settings != nil:
		for _, name := range slices.Sorted(maps.Keys(s.Settings.Home)) {
			done.Output += m.write("/etc/skel/"+name, s.Settings.Home[name]).Output
		}
		if who := s.Settings.Person; who != "" {
			if !m.takeOver(who, s.Settings.Paths, &done) {
				return platform.StepDone{ExitCode: 1, Output: "there is no account " + who + " on this machine\n"}, nil
			}
		}
		for _, name := range slices.Sorted(maps.Keys(s.Settings.Environment)) {
			m.write("/etc/environment", fmt.Sprintf("%s%s=%q\n", m.Files["/etc/environment"], name,
				s.Settings.Environment[name]))
			done.Output += "set " + name + "\n"
		}
		return done, nil
	case s.Install != nil:
		return a.install(m, s.Install.Packages), nil
	case s.Remove != nil:
		for _, name := range s.Remove.Packages {
			m.Packages = slices.DeleteFunc(m.Packages, func(p string) bool { return p == name })
			delete(m.Software, name)
			done.Output += "Removing " + name + "\n"
		}
		for _, file := range s.Remove.Files {
			maps.DeleteFunc(m.Files, func(name string, _ []byte) bool {
				return name == file || strings.HasPrefix(name, file+"/")
			})
			done.Output += "removed " + file + "\n"
		}
		return done, nil
	case s.Checkpoint != nil:
		_, err = a.endCheckpoint(o.Checkpoint())
		return platform.StepDone{Output: platform.CheckpointOutput}, err
	case s.Restart != nil:
		if a.at.Spec.Knobs.Boot >= time.Duration(s.Restart.Within) {
			return done, refuse("the machine was not back within %s", s.Restart.Within)
		}
		m.Restart = ""
		return platform.StepDone{Output: "the machine went down and came up\n"}, nil
	}
	return done, refuse("step %q does nothing that is played here", o.Step.Name)
}

// takeOver puts a person's files into new homes; false if there is no such person.
func (m *interior) takeOver(who string, paths []string, done *platform.StepDone) (there bool) {
	for _, file := range slices.Sorted(maps.Keys(m.Files)) {
		name, theirs := strings.CutPrefix(file, "/home/"+who+"/")
		if !theirs {
			continue
		}
		there = true
		in := func(p string) bool { return name == p || strings.HasPrefix(name, p+"/") }
		if len(paths) == 0 && strings.HasPrefix(name, ".") || slices.ContainsFunc(paths, in) {
			done.Output += m.write("/etc/skel/"+name, string(m.Files[file])).Output
		}
	}
	return there
}

func (m *interior) write(file, text string) platform.StepDone {
	m.Files[file] = []byte(text)
	return platform.StepDone{Output: fmt.Sprintf("wrote %d bytes to %s\n", len(text), file)}
}

// fetch fetches what the scenario has at the address; if it lists nothing, whatever was meant.
func (a act) fetch(m *interior, f sheet.Fetch) platform.StepDone {
	i := slices.IndexFunc(a.state.Downloads, func(d DownloadSpec) bool { return d.From == f.From })
	switch {
	case len(a.state.Downloads) > 0 && i < 0:
		return platform.StepDone{ExitCode: 1, Output: f.From + " answered 404 Not Found: see that the file is there, " +
			"and that this machine may have it\n"}
	case i >= 0 && a.state.Downloads[i].SHA256 != f.SHA256:
		return platform.StepDone{ExitCode: 1, Output: fmt.Sprintf("what came from %s has the digest %s, and not %s: "+
			"it is another file, or was changed\n", f.From, a.state.Downloads[i].SHA256, f.SHA256)}
	}
	return m.write(f.To, "what came from "+f.From+"\n")
}

// update applies the updates that are pending on a machine, and restarts the machine if one of them wants that.
func (a act) update(m *interior, u sheet.Update) (done platform.StepDone) {
	m.Updates = slices.DeleteFunc(m.Updates, func(p UpdateSpec) bool {
		applied := p.Security || u.Only == sheet.AllUpdates
		if applied {
			done.Output += "Setting up " + p.Name + " ...\n"
		}
		if applied {
			a.state.Software.update(m.Software, p.Name, p.Version)
		}
		if applied && p.Restart {
			m.Restart = p.Name
		}
		return applied
	})
	done.Output += "no updates are pending\n"
	if m.Restart != "" && *u.Restart {
		m.Restart = ""
		done.Output += "the machine went down and came up\n"
	}
	return done
}

// localize sets what is given.
func (m *interior) localize(l sheet.Locale) (done platform.StepDone) {
	for _, set := range []struct{ what, file, value string }{
		{"time zone", "/etc/timezone", l.TimeZone},
		{"language", "/etc/locale.conf", l.Language},
		{"keyboard", "/etc/default/keyboard", l.Keyboard},
	} {
		if set.value != "" {
			m.write(set.file, set.value+"\n")
			done.Output += fmt.Sprintf("the %s is %s\n", set.what, set.value)
		}
	}
	return done
}

// output returns what the step of an operation has written by now: of a script that the scenario
// knows, as many lines as befit the time that has passed.
func (w *World) output(key string, from int64) ([]byte, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	o, ok := w.state.Operations[key]
	if !ok {
		return nil, platform.ErrUnknown
	}
	if o.Op.Kind != string(platform.DoStep) {
		return nil, nil
	}
	order, err := platform.DoStep.Input(o.Op)
	if err != nil {
		return nil, err
	}
	text := ""
	spec := act{World: w, operation: o}.script(order.Step)
	switch {
	case spec != nil && o.Progress.State == platform.UnderWay:
		lines := strings.SplitAfter(spec.Output, "\n")
		text = strings.Join(lines[:len(lines)*o.Progress.Percent/100], "")
	case spec != nil:
		text = spec.Output
	case o.Progress.State == platform.Succeeded:
		done, err := platform.DoStep.Outcome(o.Progress)
		if err != nil {
			return nil, err
		}
		text = done.Output
	}
	return []byte(text[min(from, int64(len(text))):]), nil
}

// install installs all of the packages or none, as package managers do.
func (a act) install(m *interior, names []string) (done platform.StepDone) {
	known := func(name string) int {
		return slices.IndexFunc(a.state.Packages, func(p Package) bool { return p.Name == name })
	}
	for _, name := range names {
		if len(a.state.Packages) > 0 && known(name) < 0 {
			return platform.StepDone{ExitCode: 100, Output: "E: Unable to locate package " + name + "\n"}
		}
	}
	for _, name := range names {
		if !slices.Contains(m.Packages, name) {
			m.Packages = append(m.Packages, name)
		}
		if m.Software == nil {
			m.Software = installed{}
		}
		m.Software[name] = a.state.Software.newest(name)
		if i := known(name); i >= 0 && a.state.Packages[i].Restart {
			m.Restart = name
		}
		done.Output += "Setting up " + name + " ...\n"
	}
	return done
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

func (a act) beginInspection(in platform.Inspection) (time.Duration, error) {
	_, err := a.running(in.BuildMachine)
	return a.at.Spec.Knobs.Check, err
}

// endInspection finds what was done on the machine, and what the site's knobs say is on all of them.
func (a act) endInspection(in platform.Inspection) (f seal.Facts, err error) {
	b, err := a.running(in.BuildMachine)
	if err != nil {
		return f, err
	}
	if found := a.at.Spec.Knobs.Found; found != nil {
		f = *found
	}
	if b.Built.Restart != "" {
		f.RestartPending = b.Built.Restart
	}
	for _, p := range b.Built.Packages {
		if slices.ContainsFunc(in.Refuse, func(pattern string) bool { return seal.RefusedBy(pattern, p) }) {
			f.Refused = append(f.Refused, p)
		}
	}
	for _, script := range in.Own {
		o := platform.Outcome{}
		if s := a.spec(script.Text); s != nil {
			o.ExitCode, o.Output = s.ExitCode, []byte(s.Output)
		}
		if found := script.Ended(o.ExitCode, string(o.Output)); found != nil {
			f.Own = append(f.Own, *found)
		}
	}
	for _, u := range b.Built.Updates {
		f.UpdatesPending = append(f.UpdatesPending, u.Name)
	}
	for p, content := range b.Built.Files {
		if what := seal.Secret(p, content); what != "" {
			f.Secrets = append(f.Secrets, p+" ("+what+")")
		}
		if ok, _ := path.Match("/tmp/*", p); ok {
			f.Leftovers = append(f.Leftovers, p)
		}
	}
	slices.Sort(f.Secrets)
	slices.Sort(f.Leftovers)
	return f, nil
}

func (a act) beginSealing(s platform.Seal) (time.Duration, error) {
	b := a.buildMachine(a.Site, s.BuildMachine)
	if b != nil && b.Built != nil && b.Built.Stamp == s.Stamp {
		return 0, nil
	}
	if b != nil && b.Built != nil && b.Built.Stamp != "" {
		return 0, sealedAs(b, s.Stamp)
	}
	_, err := a.running(s.BuildMachine)
	return a.at.Spec.Knobs.Boot, err
}

// sealedAs is the refusal of a machine that is sealed as another version.
func sealedAs(b *buildMachine, stamp string) error {
	return refuse("build machine %s is sealed as %s, and cannot become %s", b.Name, b.Built.Stamp, stamp)
}

func (a act) endSealing(s platform.Seal) (platform.Sealed, error) {
	b := a.buildMachine(a.Site, s.BuildMachine)
	if b == nil || b.Built == nil {
		return platform.Sealed{}, refuse("build machine %s was discarded while it was sealed", s.BuildMachine)
	}
	b.Built.Stamp = s.Stamp
	return platform.Sealed{Sealing: []string{
		"host keys removed", "machine identity emptied", "version stamp written: " + s.Stamp, "powered off",
	}}, nil
}

func (a act) discardMachine(n platform.Named) (time.Duration, error) {
	b := a.buildMachine(a.Site, n.Name)
	switch {
	case b != nil && b.Busy:
		return 0, fmt.Errorf("build machine %s is being captured", n.Name)
	case b != nil && b.Built == nil:
		return 0, refuse("build machine %s belongs to the scenario: it is not discarded", n.Name)
	}
	a.state.BuildMachines = slices.DeleteFunc(a.state.BuildMachines, func(o *buildMachine) bool { return o == b })
	return 0, nil
}
