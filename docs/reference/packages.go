package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
)

const module = "nimblepane/"

// undrawn are the parts that hold tools and tests around the product.
var undrawn = []string{"docs", "bench", "demo", "internal", "console"}

// drawn are the packages of the product, by name without the module's, with
// the ones that each imports.
func drawn() (map[string][]string, error) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports", "./...").Output()
	if err != nil {
		return nil, fmt.Errorf("list the packages: %w", err)
	}
	all := map[string][]string{}
	for d := json.NewDecoder(bytes.NewReader(out)); ; {
		var p struct {
			ImportPath string
			Imports    []string
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return all, nil
		} else if err != nil {
			return nil, fmt.Errorf("read the packages: %w", err)
		}
		name, ours := strings.CutPrefix(p.ImportPath, module)
		if !ours || slices.Contains(undrawn, part(name)) || strings.HasSuffix(name, "test") {
			continue
		}
		all[name] = []string{}
		for _, i := range p.Imports {
			to, ours := strings.CutPrefix(i, module)
			if ours && !slices.Contains(undrawn, part(to)) {
				all[name] = append(all[name], to)
			}
		}
	}
}

func part(name string) string {
	first, _, _ := strings.Cut(name, "/")
	return first
}

// reaches says whether one package imports another, itself or by way of others than the first step.
func reaches(all map[string][]string, from, to string) bool {
	for _, next := range all[from] {
		if next == to || reaches(all, next, to) {
			return true
		}
	}
	return false
}

// packages draws which package imports which, as a Mermaid chart: an arrow
// that others lead along already is left out.
func packages() ([]byte, error) {
	all, err := drawn()
	if err != nil {
		return nil, err
	}
	names := make([]string, 0, len(all))
	for n := range all {
		names = append(names, n)
	}
	slices.Sort(names)
	id := func(name string) string { return strings.NewReplacer("/", "_", "-", "_").Replace(name) }
	var out bytes.Buffer
	out.WriteString("```mermaid\nflowchart TD\n")
	var parts []string
	for _, n := range names {
		if p := part(n); !slices.Contains(parts, p) {
			parts = append(parts, p)
		}
	}
	for _, p := range parts {
		fmt.Fprintf(&out, "  subgraph part_%s[\"%s/\"]\n", p, p)
		for _, n := range names {
			if part(n) == p {
				fmt.Fprintf(&out, "    %s[\"%s\"]\n", id(n), n)
			}
		}
		out.WriteString("  end\n")
	}
	for _, from := range names {
		for _, to := range all[from] {
			led := slices.ContainsFunc(all[from], func(by string) bool { return by != to && reaches(all, by, to) })
			if !led {
				fmt.Fprintf(&out, "  %s --> %s\n", id(from), id(to))
			}
		}
	}
	out.WriteString("```\n")
	return out.Bytes(), nil
}

// Where the drawing stands in a page.
const (
	drawingBegins = "<!-- packages: made by make generate -->\n"
	drawingEnds   = "<!-- end of packages -->\n"
)

// redraw puts the drawing of the packages into a page.
func redraw(page []byte) ([]byte, error) {
	before, rest, begins := bytes.Cut(page, []byte(drawingBegins))
	_, after, ends := bytes.Cut(rest, []byte(drawingEnds))
	if !begins || !ends {
		return nil, fmt.Errorf("the page has no place for the drawing: %q and %q", drawingBegins, drawingEnds)
	}
	drawing, err := packages()
	if err != nil {
		return nil, err
	}
	return slices.Concat(before, []byte(drawingBegins), drawing, []byte(drawingEnds), after), nil
}

func redrawFile(name string) error {
	page, err := os.ReadFile(name)
	if err != nil {
		return err
	}
	if page, err = redraw(page); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(name, page, 0o644)
}
