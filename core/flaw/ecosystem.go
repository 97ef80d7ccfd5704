package flaw

import (
	"cmp"
	"maps"
	"slices"
	"strconv"
	"strings"

	"nimblepane/core/software"
)

// system is the operating system of a list, as os-release(5) names it.
type system struct {
	id      string   // ID
	like    []string // ID_LIKE
	release string   // VERSION_ID
}

func systemOf(l software.List) system {
	for _, e := range l.Entries {
		if e.Origin == software.System {
			return system{word(e.Name), strings.FieldsFunc(strings.ToLower(e.Source), func(r rune) bool {
				return r == ',' || r == ' '
			}), e.Version}
		}
	}
	return system{}
}

// word is a name as it is compared: Red Hat is red-hat.
func word(s string) string { return strings.Join(strings.Fields(strings.ToLower(s)), "-") }

// distribution is a distribution that has an ecosystem of OSV.
type distribution struct {
	ecosystem string // the part of its name before the first colon
	// release says whether the rest of an ecosystem's name is of a release.
	release func(rest, release string) bool
	// says returns the display name of the ecosystem of a release.
	says func(release string) string
}

// major is the first number of a release.
func major(release string) string {
	first, _, _ := strings.Cut(release, ".")
	return first
}

// byMajor is a distribution whose ecosystem names the first number of a release: Debian:12, Rocky Linux:9.
func byMajor(ecosystem string) distribution {
	return distribution{
		ecosystem,
		func(rest, release string) bool { return rest == major(release) },
		func(release string) string { return ecosystem + ":" + major(release) },
	}
}

// exact is a distribution whose ecosystem names a release as it does itself.
func exact(ecosystem, before string) distribution {
	return distribution{
		ecosystem,
		func(rest, release string) bool { return rest == before+release },
		func(release string) string { return ecosystem + ":" + before + release },
	}
}

// servicePack is a release of SUSE as its ecosystems name it: 15.5 is 15 SP5.
func servicePack(release string) string {
	number, pack, is := strings.Cut(release, ".")
	if !is || pack == "0" {
		return number
	}
	return number + " SP" + pack
}

// distributions have an ecosystem each, by their ID in os-release(5). The ecosystems are those of the OSV
// schema (https://ossf.github.io/osv-schema/, "affected[].package field").
var distributions = map[string]distribution{
	"debian":    byMajor("Debian"),
	"almalinux": byMajor("AlmaLinux"),
	"rocky":     byMajor("Rocky Linux"),
	"mageia":    byMajor("Mageia"),
	"photon":    exact("Photon OS", ""),
	"openeuler": {
		"openEuler",
		func(rest, release string) bool { return rest == release || strings.HasPrefix(rest, release+"-LTS") },
		func(release string) string { return "openEuler:" + release },
	},
	"ubuntu": {
		"Ubuntu",
		// Ubuntu:22.04, Ubuntu:22.04:LTS, Ubuntu:Pro:22.04:LTS. FIPS has packages of its own.
		func(rest, release string) bool {
			rest = strings.TrimSuffix(strings.TrimPrefix(rest, "Pro:"), ":LTS")
			return rest == release
		},
		func(release string) string { return "Ubuntu:" + release },
	},
	"rhel": {
		"Red Hat",
		// Red Hat:enterprise_linux:9::baseos, Red Hat:rhel_eus:9.2::baseos.
		func(rest, release string) bool {
			parts := strings.Split(rest, ":")
			if len(parts) < 2 {
				return false
			}
			return parts[0] == "enterprise_linux" && (parts[1] == major(release) || parts[1] == release) ||
				strings.HasPrefix(parts[0], "rhel_") && parts[1] == release
		},
		func(release string) string { return "Red Hat:enterprise_linux:" + major(release) },
	},
	"sles": {"SUSE", suse, func(r string) string {
		return "SUSE:Linux Enterprise Server " +
			"" + servicePack(r)
	}},
	"sles_sap": {"SUSE", suse, func(r string) string {
		return "SUSE:Linux Enterprise Server for SAP " +
			"Applications " + servicePack(r)
	}},
	"sled": {"SUSE", suse, func(r string) string {
		return "SUSE:Linux Enterprise Desktop " +
			"" + servicePack(r)
	}},
	"opensuse-leap": exact("openSUSE", "Leap "),
	"opensuse-tumbleweed": {
		"openSUSE", func(rest, _ string) bool { return rest == "Tumbleweed" },
		func(string) string { return "openSUSE:Tumbleweed" },
	},
}

// suse says whether an ecosystem of SUSE is of a release: that of a product or of one of its modules.
func suse(rest, release string) bool {
	name, is := strings.CutPrefix(rest, "Linux Enterprise ")
	pack := servicePack(release)
	return is && (strings.HasSuffix(name, " "+pack) || strings.Contains(name, " "+pack+"-"))
}

// of returns the distribution whose packages a system has: its own, or that of which it is a derivative that keeps the
// packages and the releases. Derivatives of RHEL have their own packages.
func (s system) of() (d distribution, is bool) {
	if d, is = distributions[s.id]; is {
		return d, true
	}
	for _, like := range s.like {
		if d, is = distributions[like]; is && (like == "debian" || like == "ubuntu") {
			if like == "debian" {
				if n, err := strconv.Atoi(major(s.release)); err != nil || n > 100 {
					return d, false // a derivative with releases of its own, such as 2026.1
				}
			}
			return d, true
		}
	}
	return distribution{}, false
}

// has says whether an ecosystem is that of what installed an entry, whose own ecosystem is that of a language, or ""
// for the system's packages.
func (s system) has(ecosystem, own string) bool {
	base, rest, named := strings.Cut(ecosystem, ":")
	if own != "" {
		return strings.EqualFold(base, own)
	}
	d, is := s.of()
	if !is {
		// A list of one's own can name a system as it does itself.
		return s.id != "" && word(base) == s.id && (!named || rest == s.release || rest == major(s.release))
	}
	return strings.EqualFold(base, d.ecosystem) && (!named || d.release(rest, s.release))
}

// name is the display name of the ecosystem of the system's packages.
func (s system) name() string {
	if d, is := s.of(); is {
		return d.says(s.release)
	}
	return strings.TrimSuffix(cmp.Or(s.id, "unknown system")+":"+s.release, ":")
}

// Gap is software that no list of known vulnerabilities covers: it was not checked.
type Gap struct {
	Ecosystem string   `json:"ecosystem"` // such as Rocky Linux:9, PyPI, flatpak
	Software  int      `json:"software"`  // how many entries
	Such      []string `json:"such_as" nullable:"false"`
}

// NotChecked returns the software of a list that none of the ecosystems covers, by its ecosystem. Each ecosystem is one
// of which there is a list.
func NotChecked(l software.List, ecosystems []string) []Gap {
	const shown = 3
	s, gaps := systemOf(l), map[string]*Gap{}
	covered := map[string]bool{}
	for _, own := range []string{"", "pypi", "npm"} {
		covered[own] = slices.ContainsFunc(ecosystems, func(e string) bool { return s.has(e, own) })
	}
	for _, e := range l.Entries {
		name := string(e.Origin) // of what has no ecosystem
		switch e.Origin {
		case software.Application, software.System:
			continue // an application is counted with what it belongs to
		case software.Deb, software.RPM:
			if name = s.name(); covered[""] {
				continue
			}
		case software.Python:
			if name = "PyPI"; covered["pypi"] {
				continue
			}
		case software.NPM:
			if covered["npm"] {
				continue
			}
		case software.Flatpak, software.Windows, software.Folder, software.Other:
		}
		g := gaps[name]
		if g == nil {
			g = &Gap{Ecosystem: name}
			gaps[name] = g
		}
		if g.Software++; len(g.Such) < shown {
			g.Such = append(g.Such, e.Label())
		}
	}
	out := []Gap{}
	for _, name := range slices.Sorted(maps.Keys(gaps)) {
		out = append(out, *gaps[name])
	}
	return out
}

// called is a name and a version by which records can know a piece of software.
type called struct{ name, version string }

// callings are the names of an entry in records, and the ecosystem of its language, "" for the system's packages.
// Records of distributions name source packages, and those of RPM binary packages, too.
func callings(e software.Entry) (ecosystem string, as []called) {
	switch e.Origin {
	case software.Deb:
		source := called{cmp.Or(e.Source, e.Name), cmp.Or(e.SourceVersion, e.Version)}
		// A signed kernel is built from a package of its own, whose version is another than that of the kernel.
		if kernel, is := strings.CutPrefix(source.name, "linux-signed"); is {
			kernel = strings.TrimSuffix(strings.TrimSuffix(kernel, "-amd64"), "-arm64")
			source = called{"linux" + kernel, e.Version}
		}
		return "", []called{source}
	case software.RPM:
		as = []called{{cmp.Or(e.Source, e.Name), cmp.Or(e.SourceVersion, e.Version)}}
		if own := (called{e.Name, e.Version}); own != as[0] {
			as = append(as, own)
		}
		return "", as
	case software.Python:
		return "pypi", []called{{Normal("PyPI", e.Name), e.Version}}
	case software.NPM:
		return "npm", []called{{e.Name, e.Version}}
	case software.Application, software.System, software.Flatpak, software.Windows, software.Folder, software.Other:
	}
	return "", nil
}
