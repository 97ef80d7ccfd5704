//go:build linux

package software

import (
	"bufio"
	"bytes"
	"cmp"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/textproto"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"nimblepane/agent/seal"
	"nimblepane/core/software"
)

// machine is one that is looked at.
type machine struct {
	seal.Machine
	commands []string // of applications that people open, which are looked for
	owned    map[string]bool
	entries  []software.Entry
}

// Of returns what is in a Linux machine. The commands are those of applications
// that people open: the entry that they belong to says so.
func Of(ctx context.Context, m seal.Machine, commands []string) (l software.List, err error) {
	on := &machine{Machine: m, commands: commands, owned: map[string]bool{}}
	release, err := on.release()
	if err != nil {
		return l, err
	}
	for _, part := range []struct {
		doing string
		find  func(context.Context) error
	}{
		{"read dpkg's database", on.dpkg},
		{"ask rpm", on.rpm},
		{"ask flatpak", on.flatpak},
		{"look for Python's packages", on.python},
		{"look for npm's packages", on.npm},
		{"look for software without a package manager", on.folders},
	} {
		if err := part.find(ctx); err != nil {
			return l, fmt.Errorf("%s: %w", part.doing, err)
		}
	}
	if id := release["ID"]; id != "" {
		l.Entries = append(l.Entries, software.Entry{
			Origin: software.System, Name: id, Version: release["VERSION_ID"], Summary: release["PRETTY_NAME"],
			Source: strings.Join(strings.Fields(release["ID_LIKE"]), ","),
		})
	}
	l.Entries = append(l.Entries, on.entries...)
	l.Facts, err = on.facts(ctx, release, l.Entries)
	return l, err
}

func (m *machine) path(p string) string { return filepath.Join(m.Root, p) }

// name is what the machine calls a file.
func (m *machine) name(file string) string {
	return "/" + strings.Trim(strings.TrimPrefix(file, m.Root), "/")
}

// glob returns the machine's paths that are like one of the patterns, in order, each once.
func (m *machine) glob(patterns ...string) (found []string) {
	for _, p := range patterns {
		paths, err := filepath.Glob(m.path(p))
		if err != nil {
			panic(err) // the patterns are ours
		}
		for _, f := range paths {
			found = append(found, m.name(f))
		}
	}
	slices.Sort(found)
	return slices.Compact(found)
}

// mostOfText is how much is read of a file that should be short, in bytes.
const mostOfText = 1 << 20

// read reads the beginning of a file of the machine; one that is not there is empty.
func (m *machine) read(file string) ([]byte, error) {
	f, err := os.Open(m.path(file))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostOfText))
}

// run runs a program and returns what it printed, "" if it is not there.
func (m *machine) run(ctx context.Context, name string, args ...string) (string, error) {
	if m.Run == nil {
		return "", nil
	}
	return m.Run(ctx, name, args...)
}

// release reads os-release(5).
func (m *machine) release() (map[string]string, error) {
	text, err := m.read("/etc/os-release")
	if err == nil && text == nil {
		text, err = m.read("/usr/lib/os-release")
	}
	out := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if key, value, ok := strings.Cut(strings.TrimSpace(line), "="); ok {
			out[key] = strings.Trim(value, `"'`)
		}
	}
	return out, err
}

// Sections of Debian's packages that people notice.
var noticedSections = []string{"fonts", "localization"}

// dpkg reads dpkg's database: the paragraphs of its status file
// (deb-control(5)), which files are whose, and of each package's documents who
// may use it, and whether its last change was a security fix.
func (m *machine) dpkg(ctx context.Context) error {
	f, err := os.Open(m.path("/var/lib/dpkg/status"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, mostOfText)
	paragraph := map[string]string{}
	end := func() error {
		defer clear(paragraph)
		if paragraph["Package"] == "" || !strings.HasSuffix(paragraph["Status"], " installed") {
			return nil
		}
		e, err := m.debian(paragraph)
		if err != nil {
			return fmt.Errorf("%s: %w", paragraph["Package"], err)
		}
		m.entries = append(m.entries, e)
		return ctx.Err()
	}
	for lines.Scan() {
		line := lines.Text()
		if strings.TrimSpace(line) == "" {
			if err := end(); err != nil {
				return err
			}
		} else if key, value, ok := strings.Cut(line, ":"); ok && line[0] != ' ' && line[0] != '\t' {
			paragraph[key] = strings.TrimSpace(value)
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return end()
}

// shared are folders that many packages have, and so nobody's.
var shared = []string{"/opt", "/usr/local", "/usr/local/bin", "/usr/local/sbin", "/usr/local/lib"}

func (m *machine) debian(p map[string]string) (e software.Entry, err error) {
	e = software.Entry{
		Origin: software.Deb, Name: p["Package"], Version: p["Version"], Arch: p["Architecture"],
		Summary: p["Description"],
	}
	source, version, _ := strings.Cut(p["Source"], " ")
	e.Source, e.SourceVersion = source, strings.Trim(version, "()")
	section := p["Section"]
	e.Noticed = slices.Contains(noticedSections, section[strings.LastIndex(section, "/")+1:])
	for _, list := range []string{e.Name + ":" + e.Arch, e.Name} {
		text, err := os.ReadFile(m.path("/var/lib/dpkg/info/" + list + ".list"))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return e, err
		}
		for line := range bytes.Lines(text) {
			m.owns(&e, string(bytes.TrimSpace(line)))
		}
	}
	documents := "/usr/share/doc/" + e.Name + "/"
	copyright, err := m.read(documents + "copyright")
	if err != nil {
		return e, err
	}
	e.Licence = licences(copyright)
	for _, log := range []string{"changelog.Debian.gz", "changelog.gz"} {
		first, err := m.firstLine(documents + log)
		if err != nil {
			return e, err
		}
		if first != "" {
			e.Security = securityRelease.MatchString(first)
			break
		}
	}
	return e, nil
}

// owns notes what it means that a file belongs to an entry.
func (m *machine) owns(e *software.Entry, file string) {
	switch {
	case strings.HasPrefix(file, "/usr/share/applications/") && strings.HasSuffix(file, ".desktop"):
		e.Noticed = e.Noticed || m.inMenus(file)
	case (strings.HasPrefix(file, "/opt/") || strings.HasPrefix(file, "/usr/local/")) && !slices.Contains(shared, file):
		m.owned[file] = true
	}
	for _, c := range m.commands {
		if file == c || strings.HasPrefix(c, "/usr/") && file == strings.TrimPrefix(c, "/usr") {
			e.Opens = append(e.Opens, c)
		}
	}
}

var hidden = regexp.MustCompile(`(?m)^(NoDisplay|Hidden)\s*=\s*true\s*$`)

// inMenus says whether people see a menu entry.
func (m *machine) inMenus(file string) bool {
	text, err := m.read(file)
	return err == nil && text != nil && !hidden.Match(text)
}

// securityRelease is the heading of a changelog's entry of a security fix (deb-changelog(5)).
var securityRelease = regexp.MustCompile(`^\S+ \([^)]*\) [^;]*-security\b`)

// firstLine returns the first line of a file that is packed by gzip, "" if there is none.
func (m *machine) firstLine(file string) (string, error) {
	f, err := os.Open(m.path(file))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer f.Close()
	r, err := gzip.NewReader(f)
	if err != nil {
		return "", nil //nolint:nilerr // a file that only looks like one says nothing
	}
	line, err := bufio.NewReader(io.LimitReader(r, 4096)).ReadString('\n')
	if err != nil {
		return "", nil //nolint:nilerr // as above
	}
	return line, nil
}

var (
	machineReadable = regexp.MustCompile(`(?m)\A\s*Format:`)
	licenceLine     = regexp.MustCompile(`(?m)^License:[ \t]*(\S.*)$`)
)

// mostOfLicence is how long the names of an entry's licences may be together, in bytes.
const mostOfLicence = 300

// licences are those that a machine-readable copyright file names (copyright-format 1.0), in its words.
func licences(copyright []byte) string {
	if !machineReadable.Match(copyright) {
		return ""
	}
	var names []string
	length := 0
	for _, found := range licenceLine.FindAllSubmatch(copyright, -1) {
		name := strings.TrimSpace(string(found[1]))
		if slices.Contains(names, name) {
			continue
		}
		if length += len(name); length > mostOfLicence {
			names = append(names, "others")
			break
		}
		names = append(names, name)
	}
	return strings.Join(names, ", ")
}

// Separators in what rpm is asked to print, which no field has in it.
const fieldEnd, recordEnd = "\x1f", "\x1e"

// rpm asks rpm for what it has installed.
func (m *machine) rpm(ctx context.Context) error {
	format := strings.Join([]string{
		"%{NAME}", "%|EPOCH?{%{EPOCH}:}|%{VERSION}-%{RELEASE}", "%{ARCH}", "%{SOURCERPM}", "%{LICENSE}", "%{VENDOR}",
		"%{SUMMARY}", "%{CHANGELOGTEXT}",
	}, fieldEnd) + recordEnd
	out, err := m.run(ctx, "rpm", "--query", "--all", "--queryformat", format)
	if err != nil || out == "" {
		return err
	}
	noticed, err := m.rpmOwners(ctx, m.glob("/usr/share/applications/*.desktop"), m.inMenus)
	if err != nil {
		return err
	}
	opens, err := m.rpmOwners(ctx, m.commands, func(string) bool { return true })
	if err != nil {
		return err
	}
	for record := range strings.SplitSeq(strings.TrimSuffix(out, recordEnd), recordEnd) {
		f := strings.Split(record, fieldEnd)
		if len(f) != 8 {
			return fmt.Errorf("it printed %.100q, which has not the fields that were asked for", record)
		}
		for i := range f {
			if f[i] == "(none)" {
				f[i] = ""
			}
		}
		if f[0] == "gpg-pubkey" { // a key, and no software
			continue
		}
		e := software.Entry{
			Origin: software.RPM, Name: f[0], Version: f[1], Arch: f[2], Source: sourceName(f[3]), Licence: f[4],
			Publisher: f[5], Summary: f[6], Security: strings.Contains(f[7], "CVE-"),
			Noticed: len(noticed[f[0]]) > 0 || strings.HasSuffix(f[0], "-fonts"), Opens: opens[f[0]],
		}
		if e.Source == e.Name {
			e.Source = ""
		}
		m.entries = append(m.entries, e)
	}
	return nil
}

// sourceName takes the name out of that of a source package's file: bash-5.2-1.src.rpm.
func sourceName(file string) string {
	parts := strings.Split(file, "-")
	return strings.Join(parts[:max(0, len(parts)-2)], "-")
}

// rpmOwners sorts files that a test passes by the package that they belong to.
func (m *machine) rpmOwners(ctx context.Context, files []string, passes func(string) bool) (map[string][]string,
	error,
) {
	owners := map[string][]string{}
	for _, f := range files {
		if !passes(f) {
			continue
		}
		if _, err := os.Lstat(m.path(f)); err != nil {
			continue // it is not there
		}
		out, err := m.run(ctx, "rpm", "--query", "--file", "--queryformat", "%{NAME}\n", f)
		if err != nil {
			continue // it belongs to none
		}
		for name := range strings.FieldsSeq(out) {
			owners[name] = append(owners[name], f)
		}
	}
	return owners, ctx.Err()
}

func (m *machine) flatpak(ctx context.Context) error {
	out, err := m.run(ctx, "flatpak", "list", "--columns=application,version,arch,origin,name")
	for line := range strings.Lines(out) {
		f := append(strings.Split(strings.TrimRight(line, "\n"), "\t"), "", "", "", "")
		if f[0] != "" {
			m.entries = append(m.entries, software.Entry{
				Origin: software.Flatpak, Name: f[0], Version: f[1], Arch: f[2], Source: f[3], Summary: f[4],
				Noticed: true,
			})
		}
	}
	return err
}

// Where Python's packages are that pip and its like put there. What dpkg and rpm put there is theirs.
var pythonFolders = []string{
	"/usr/lib/python3*/site-packages", "/usr/local/lib/python3*/dist-packages",
	"/usr/local/lib/python3*/site-packages", "/opt/*/lib/python3*/site-packages",
	"/opt/*/*/lib/python3*/site-packages", "/root/.local/lib/python3*/site-packages",
	"/home/*/.local/lib/python3*/site-packages", "/srv/*/lib/python3*/site-packages",
}

// python reads what is installed by the standard of the Python packaging authority: a folder NAME.dist-info with
// METADATA.
func (m *machine) python(ctx context.Context) error {
	for _, folder := range m.glob(pythonFolders...) {
		for _, info := range m.glob(folder + "/*.dist-info") {
			if err := ctx.Err(); err != nil {
				return err
			}
			by, err := m.read(info + "/INSTALLER")
			if err != nil {
				return err
			}
			if name := strings.TrimSpace(string(by)); name == "rpm" || name == "debian" || m.owned[info] {
				continue
			}
			text, err := m.read(info + "/METADATA")
			if err != nil {
				return err
			}
			head, err := textproto.NewReader(bufio.NewReader(bytes.NewReader(append(text, "\n\n"...)))).ReadMIMEHeader()
			if err != nil || head.Get("Name") == "" {
				continue // it is no package
			}
			m.entries = append(m.entries, software.Entry{
				Origin: software.Python, Name: head.Get("Name"), Version: head.Get("Version"),
				Licence: short(cmp.Or(head.Get("License-Expression"), head.Get("License"))),
				Summary: head.Get("Summary"), Path: folder,
			})
		}
	}
	return nil
}

// short keeps what is a name, and leaves out what is a whole licence.
func short(licence string) string {
	if len(licence) > mostOfLicence || licence == "UNKNOWN" {
		return ""
	}
	return licence
}

// npmFolders is where npm puts what is installed for all.
var npmFolders = []string{
	"/usr/lib/node_modules", "/usr/local/lib/node_modules", "/opt/*/lib/node_modules",
	"/root/.npm-global/lib/node_modules", "/home/*/.npm-global/lib/node_modules",
}

func (m *machine) npm(context.Context) error {
	for _, folder := range m.glob(npmFolders...) {
		for _, file := range m.glob(folder+"/*/package.json", folder+"/@*/*/package.json") {
			text, err := m.read(file)
			if err != nil {
				return err
			}
			var p struct {
				Name, Version, Description string
				Licence                    any `json:"license"`
			}
			if json.Unmarshal(text, &p) != nil || p.Name == "" || m.owned[path.Dir(file)] {
				continue // it is no package, or another manager's
			}
			licence, _ := p.Licence.(string)
			m.entries = append(m.entries, software.Entry{
				Origin: software.NPM, Name: p.Name, Version: p.Version, Licence: short(licence), Summary: p.Description,
				Path: path.Dir(file),
			})
		}
	}
	return nil
}

var (
	versionLine = regexp.MustCompile(`[0-9]+(\.[0-9A-Za-z]+)*([-+~][0-9A-Za-z.]+)*`)
	versionTail = regexp.MustCompile(`^(.+?)[-_ ]v?([0-9]+(\.[0-9]+)*)$`)
)

// folders lists what is in the places for software that no package manager knows, if none knows it.
func (m *machine) folders(ctx context.Context) error {
	for _, p := range m.glob("/opt/*", "/usr/local/bin/*", "/usr/local/sbin/*", "/usr/local/games/*") {
		info, err := os.Stat(m.path(p))
		if err != nil || m.owned[p] {
			continue // a link to nowhere, or another's
		}
		if owner, err := m.run(ctx, "rpm", "--query", "--file", p); err == nil && owner != "" {
			continue
		}
		e := software.Entry{Origin: software.Folder, Name: path.Base(p), Path: p}
		if info.IsDir() {
			if e.Version, err = m.folderVersion(p); err != nil {
				return err
			}
			if f := versionTail.FindStringSubmatch(e.Name); f != nil {
				e.Name, e.Version = f[1], cmp.Or(e.Version, f[2])
			}
		}
		for _, c := range m.commands {
			if c == p || strings.HasPrefix(c, p+"/") {
				e.Opens = append(e.Opens, c)
			}
		}
		e.Noticed = len(e.Opens) > 0
		m.entries = append(m.entries, e)
	}
	return nil
}

// folderVersion is what a folder says of the version of what is in it.
func (m *machine) folderVersion(folder string) (string, error) {
	for _, name := range []string{"VERSION", "version", "VERSION.txt", "version.txt", "share/VERSION"} {
		if st, err := os.Stat(m.path(folder + "/" + name)); err != nil || !st.Mode().IsRegular() {
			continue
		}
		text, err := m.read(folder + "/" + name)
		if err != nil {
			return "", err
		}
		first, _, _ := strings.Cut(strings.TrimSpace(string(text)), "\n")
		if v := versionLine.FindString(first); v != "" && len(v) < 100 {
			return v, nil
		}
	}
	return "", nil
}
