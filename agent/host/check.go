package host

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

const outputKept = 500 // bytes of a failed check's output that are reported

// Check runs the programs of a folder by name, one after the other, each for
// the limit at most, and returns "" if all ended with exit code 0. Else it
// returns which one failed, how, and the end of what it printed. Later ones
// are not run then. A folder that is not there has no checks.
func Check(ctx context.Context, dir string, limit time.Duration) (why string) {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	if err != nil {
		return err.Error()
	}
	for _, e := range entries {
		if e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if why := checkOne(ctx, filepath.Join(dir, e.Name()), limit); why != "" {
			return why
		}
	}
	return ""
}

func checkOne(ctx context.Context, path string, limit time.Duration) string {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	name, args := path, []string(nil)
	if runtime.GOOS == "windows" && strings.EqualFold(filepath.Ext(path), ".ps1") {
		name, args = "powershell.exe", []string{"-NoProfile", "-ExecutionPolicy", "Bypass", "-File", path}
	}
	cmd := exec.CommandContext(ctx, name, args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	ownGroup(cmd)
	// What the program started may hold the output open after its end.
	cmd.WaitDelay = time.Second
	err := cmd.Run()
	if err == nil {
		return ""
	}
	how := err.Error()
	if ctx.Err() != nil {
		how = fmt.Sprintf("it did not end within %s", limit)
	}
	text := strings.TrimSpace(out.String())
	if len(text) > outputKept {
		text = "..." + text[len(text)-outputKept:]
	}
	if text != "" {
		how += ": " + text
	}
	return strings.ToValidUTF8(filepath.Base(path)+": "+how, "?")
}
