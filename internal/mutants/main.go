// Command mutants changes the code of packages in one small place at a time and
// runs their tests, and those of the packages of core that use them: a change
// that no test notices shows what is not tested. It exits with 1 if there is
// one that docs/mutants.md does not explain.
//
//	go run ./internal/mutants ./core/rollover ./core/clearance
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
)

// explained is where changes stand that no test can notice, and why.
const explained = "docs/mutants.md"

// patience is how long the tests of a change may take: an endless loop is noticed too.
const patience = 3 * time.Minute

func main() {
	if err := run(context.Background(), os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

// pkg is what go list tells of a package.
type pkg struct {
	ImportPath, Dir                    string
	GoFiles, Deps                      []string
	TestGoFiles, XTestGoFiles          []string
	Imports, TestImports, XTestImports []string
}

func list(ctx context.Context, patterns ...string) (out []pkg, err error) {
	cmd := exec.CommandContext(ctx, "go", append([]string{"list", "-json"}, patterns...)...)
	cmd.Stderr = os.Stderr
	text, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("list packages: %w", err)
	}
	for d := json.NewDecoder(bytes.NewReader(text)); d.More(); {
		var p pkg
		if err := d.Decode(&p); err != nil {
			return nil, fmt.Errorf("list packages: %w", err)
		}
		out = append(out, p)
	}
	return out, nil
}

func (p pkg) tested() bool { return len(p.TestGoFiles)+len(p.XTestGoFiles) > 0 }

func run(ctx context.Context, patterns []string) error {
	if len(patterns) == 0 {
		return fmt.Errorf("name the packages whose code is to be changed, such as ./core/rollover")
	}
	root, err := os.Getwd()
	if err != nil {
		return err
	}
	subjects, err := list(ctx, patterns...)
	if err != nil {
		return err
	}
	around, err := list(ctx, "./core/...")
	if err != nil {
		return err
	}
	known, err := reasons(explained)
	if err != nil {
		return err
	}
	type job struct {
		mutant
		tests []string // packages, those of the subject first
	}
	var jobs []job
	for _, p := range subjects {
		var tests []string
		if p.tested() {
			tests = append(tests, p.ImportPath)
		}
		for _, a := range around {
			uses := slices.Concat(a.Deps, a.TestImports, a.XTestImports)
			if a.ImportPath != p.ImportPath && a.tested() && slices.Contains(uses, p.ImportPath) {
				tests = append(tests, a.ImportPath)
			}
		}
		for _, f := range p.GoFiles {
			path := filepath.Join(p.Dir, f)
			src, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			found, err := mutants(path, src)
			if err != nil {
				return err
			}
			for _, m := range found {
				m.file, _ = filepath.Rel(root, path)
				jobs = append(jobs, job{m, tests})
			}
		}
	}
	fmt.Printf("%d changes\n", len(jobs))

	var mu sync.Mutex
	counts := map[verdict]int{}
	var open []string
	met := map[string]bool{}
	queue := make(chan job)
	var workers sync.WaitGroup
	for range runtime.NumCPU() {
		workers.Go(func() {
			for j := range queue {
				v := j.try(ctx, root, j.tests)
				mu.Lock()
				why := known[j.String()]
				met[j.String()] = met[j.String()] || v == survived
				switch {
				case v == survived && why == "":
					open = append(open, j.String())
					fmt.Printf("not noticed (line %d): %s\n", j.line, j)
				case v == survived:
					v = accounted
				}
				counts[v]++
				mu.Unlock()
			}
		})
	}
	for _, j := range jobs {
		queue <- j
	}
	close(queue)
	workers.Wait()
	fmt.Printf("%d noticed, %d do not compile, %d explained in %s, %d not noticed\n", counts[killed], counts[stillborn],
		counts[accounted], explained, counts[survived])
	for name := range known {
		if seen, tried := met[name]; tried && !seen {
			fmt.Printf("noticed by now, so %s need not explain it: %s\n", explained, name)
		}
	}
	if len(open) > 0 {
		return fmt.Errorf("tests do not notice %d changes", len(open))
	}
	return nil
}

type verdict int

const (
	killed verdict = iota
	stillborn
	survived
	accounted
)

// try runs the tests with the change in place of the file, which stays as it is.
func (m mutant) try(ctx context.Context, root string, tests []string) verdict {
	dir, err := os.MkdirTemp("", "mutant")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	changed, overlay := filepath.Join(dir, "changed.go"), filepath.Join(dir, "overlay.json")
	plan, _ := json.Marshal(map[string]any{"Replace": map[string]string{filepath.Join(root, m.file): changed}})
	if err := os.WriteFile(changed, m.text, 0o600); err != nil {
		panic(err)
	}
	if err := os.WriteFile(overlay, plan, 0o600); err != nil {
		panic(err)
	}
	for _, p := range tests {
		ctx, cancel := context.WithTimeout(ctx, patience+time.Minute)
		out, err := exec.CommandContext(ctx, "go", "test", "-overlay", overlay, "-vet", "off", "-failfast", "-timeout",
			patience.String(), p).CombinedOutput()
		cancel()
		switch {
		case bytes.Contains(out, []byte("[build failed]")):
			return stillborn
		case err != nil:
			return killed
		}
	}
	return survived
}

var line = regexp.MustCompile("(?m)^- (`.*`): (.+)$")

// reasons reads the changes that are explained: items of a list, each a change as
// it is printed, in backticks, and why it cannot be noticed.
func reasons(path string) (map[string]string, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, m := range line.FindAllStringSubmatch(string(text), -1) {
		out[strings.Trim(m[1], "`")] = m[2]
	}
	return out, nil
}
