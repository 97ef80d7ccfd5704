package seal

import (
	"bytes"
	"path"
	"regexp"
	"slices"
)

// MostOfFile is how much of a file is looked at for secrets, in bytes.
const MostOfFile = 1 << 20

// The rules by which secrets are found. docs/seal-checks.md describes them.
var (
	privateKey  = regexp.MustCompile(`-----BEGIN (?:[A-Z0-9]+ )*PRIVATE KEY(?: BLOCK)?-----|^PuTTY-User-Key-File-`)
	netrcLine   = regexp.MustCompile(`(?m)^\s*machine\s+\S+(?:\s+login\s+\S+)?\s+password\s+\S+`)
	signedToken = regexp.MustCompile(`\beyJ[A-Za-z0-9_-]{10,}\.eyJ[A-Za-z0-9_-]{10,}\.[A-Za-z0-9_-]+`)
	inAddress   = regexp.MustCompile(`\b[a-z][a-z0-9+.-]*://[^\s/:@]+:[^\s/:@]+@`)
	assignment  = regexp.MustCompile(`(?im)^[^#\n]*\b[a-z0-9_]*` +
		`(?:password|passwd|secret|token|api_?key|access_?key|credential)[a-z0-9_]*["']?[ \t]*[=:]\s*["']?[^\s"'$<]{6,}`)
)

// What files are called that hold what people and programs sign in with.
var credentialFiles = []string{".git-credentials", ".netrc", ".pgpass", "auth.conf", "credentials", "credentials.json"}

// What files are called in which commands, variables and settings are written down.
var settingFiles = []string{
	"*_history", ".histfile", "environment", ".env", "*.env", ".profile", ".bashrc", ".bash_profile", ".zshrc",
	".zshenv",
	"*.cfg", "*.cnf", "*.conf", "*.ini", "*.json", "*.properties", "*.toml", "*.yaml", "*.yml", ".my.cnf", "config",
}

// notSecret is a file whose lines look as if they held passwords, and say where accounts are.
const notSecret = "nsswitch.conf"

// Secret says what secret the file holds, "" if none is known. The path is one
// of the machine; the content is the file's, or its first MostOfFile bytes.
func Secret(file string, content []byte) string {
	name := path.Base(file)
	named := func(patterns []string) bool {
		return slices.ContainsFunc(patterns, func(p string) bool {
			ok, _ := path.Match(p, name)
			return ok
		})
	}
	// A machine has many files: what is sought is sought by plain text first, which is a hundred times faster.
	has := func(text string) bool { return bytes.Contains(content, []byte(text)) }
	switch {
	case (has("PRIVATE KEY") || has("PuTTY-User-Key")) && privateKey.Match(content):
		return "a private key"
	case has(".eyJ") && signedToken.Match(content):
		return "a signed token"
	case has("machine") && has("password") && netrcLine.Match(content):
		return "a password"
	case named(credentialFiles) && len(bytes.TrimSpace(content)) > 0:
		return "what somebody signs in with"
	case !named(settingFiles) && path.Dir(file) != "/etc/profile.d" || name == notSecret:
		return ""
	case inAddress.Match(content):
		return "a password in an address"
	case assignment.Match(content):
		return "a password or token in a setting"
	}
	return ""
}
