package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimblepane/core/build"
	"nimblepane/core/sheet"
	"nimblepane/store/localpg"
)

// sheets measures how long a sheet of 500 lines is checked, as a person waits for it, and one decision about a build
// of as many steps as there may be.
func sheets(ctx context.Context, r *results, _ *localpg.Server, dir string) error {
	text := "image: counter-desk\nbase: {track: live}\nmachine: {site: north-quay}\n" +
		"parameters: {queue: {default: counter}}\nsteps:\n"
	steps := 0
	for ; strings.Count(text, "\n") < 500; steps++ {
		text += fmt.Sprintf("  - name: step %d\n    when: values.queue == \"counter\" && site != \"south-quay\"\n"+
			"    put:\n      to: /etc/desk/%d.conf\n      text: |\n        queue = {{queue}}\n", steps, steps)
	}
	file := filepath.Join(dir, "sheet.yaml")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		return err
	}
	var least time.Duration
	for range 10 {
		check := exec.CommandContext(ctx, filepath.Join("bin", "pane"), "sheet", "check", file)
		if out, err := check.CombinedOutput(); err != nil {
			return fmt.Errorf("sheet check: %w: %s", err, out)
		}
		own := check.ProcessState.UserTime() + check.ProcessState.SystemTime()
		if least == 0 || own < least {
			least = own
		}
	}
	r.add(fmt.Sprintf("`pane sheet check` of 500 lines with %d conditions, its own time, least of ten", steps),
		fmt.Sprintf("%d ms", least.Milliseconds()), "under 100 ms")

	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	done := build.Task{State: build.Done, EndedAt: now}
	p := build.Plan{TimeLimit: time.Hour}
	s := build.Snapshot{State: build.Working, StartedAt: now, Machine: done}
	for i := range sheet.MostSteps {
		p.Steps = append(p.Steps, sheet.Step{Name: fmt.Sprint(i), Restart: &sheet.Restart{}})
		s.Steps = append(s.Steps, []build.Task{done})
	}
	if d := build.Decide(p, s, now); d.State != build.Checking {
		return errors.New("the build is decided to be " + string(d.State))
	}
	b := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			build.Decide(p, s, now)
		}
	})
	r.add(fmt.Sprintf("a decision for a build of %d steps", sheet.MostSteps),
		fmt.Sprintf("%.3f ms", float64(b.NsPerOp())/1e6), "under 1 ms")
	return nil
}
