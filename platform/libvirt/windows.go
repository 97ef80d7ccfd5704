package libvirt

import (
	"context"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"path"
	"strconv"
	"strings"
	"unicode/utf16"

	libvirt "github.com/digitalocean/go-libvirt"

	"nimblepane/core/sheet"
	"nimblepane/platform"
)

// Steps in Windows guests are done as those in Linux guests are, by other means:
// a step is a folder with a program, which a scheduled task runs, and PowerShell
// is what a shell is there. None of this has been run on such a guest yet.

//go:embed step/windows/*.ps1
var windowsScripts embed.FS

// windowsSteps is where steps have their folders in Windows guests.
const windowsSteps = "C:/ProgramData/nimblepane/steps"

// powershell is a program that is there in every Windows guest.
const powershell = "powershell.exe"

// windowsScript returns a script that ships for Windows guests.
func windowsScript(name string) []byte {
	text, _ := windowsScripts.ReadFile(path.Join("step/windows", name+".ps1")) // it is built in
	return text
}

// isWindows asks the guest agent what system it runs in. An agent that cannot say is an old one of Linux.
func (g guest) isWindows(ctx context.Context) (bool, error) {
	var is struct {
		ID string `json:"id"`
	}
	err := g.call(ctx, "guest-get-osinfo", nil, &is)
	if answer := (libvirt.Error{}); errors.As(err, &answer) && !absent(err) {
		return false, nil
	}
	return is.ID == "mswindows", err
}

// windowsAsk is the command that has a verb of ask.ps1 done. What it is asked
// with is ours, and stands before the script: an encoded command has no arguments.
func windowsAsk(verb, folder, unit string, limit, from, most int64) platform.Command {
	text := fmt.Sprintf("$verb = '%s'; $folder = '%s'; $unit = '%s'; $limit = %d; $from = %d; $most = %d\n%s", verb,
		folder, unit, limit, from, most, windowsScript("ask"))
	return platform.Command{Path: powershell, Args: []string{
		"-NoProfile", "-NonInteractive", "-EncodedCommand", encodedCommand(text),
	}}
}

// encodedCommand writes a text as PowerShell takes it for -EncodedCommand: UTF-16, lesser byte first, in Base64.
func encodedCommand(text string) string {
	var b []byte
	for _, unit := range utf16.Encode([]rune(text)) {
		b = append(b, byte(unit), byte(unit>>8))
	}
	return base64.StdEncoding.EncodeToString(b)
}

// askWindows has a verb of ask.ps1 done, and returns what it printed.
func (s stepOn) askWindows(ctx context.Context, verb string, more ...string) (string, error) {
	var limit int64
	if len(more) > 0 {
		limit, _ = strconv.ParseInt(more[0], 10, 64)
	}
	o, err := s.exec(ctx, windowsAsk(verb, s.folder, s.unit, limit, 0, 0))
	if err != nil {
		return "", err
	}
	if o.ExitCode != 0 {
		return "", fmt.Errorf("%s on %s ended with exit code %d: %s", verb, s.domain.Name, o.ExitCode,
			strings.TrimSpace(string(o.Errors)))
	}
	return strings.TrimSpace(string(o.Output)), nil
}

// windowsScriptOf names the script that does a step, "" for one that brings its own.
func windowsScriptOf(s sheet.Step) string {
	switch {
	case s.Put != nil && s.Put.Folder != "":
		return "unpack"
	case s.Script != nil:
		return ""
	}
	return string(s.Kinds()[0])
}

// onWindows is the program that does a step in a Windows guest.
func (p program) onWindows(script string) (program, error) {
	if script != "" {
		p.text = windowsScript(script)
	}
	if len(p.secrets) > 0 {
		return p, refuse("a step in a Windows guest has no secrets yet: they would be on its disk for a moment")
	}
	return p, nil
}
