// Package nimblepane holds only the tests of how its packages are put together.
package nimblepane

import (
	"encoding/json"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// layers are the parts of the product from top to bottom. A package may import
// packages of its own part and of those below it.
var layers = []string{
	"demo", "bench", "docs", "cmd", "internal", "cli", "console", "api", "client", "engine", "store",
	"platform", "agent", "sandbox", "core",
}

type listed struct {
	ImportPath string
	Imports    []string
}

func packages(t *testing.T) (list []listed) {
	cmd := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	out, err := cmd.Output()
	require.NoError(t, err)
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p listed
		err := d.Decode(&p)
		if errors.Is(err, io.EOF) {
			return list
		}
		require.NoError(t, err)
		list = append(list, p)
	}
}

func layer(path string) (string, int) {
	rest, ok := strings.CutPrefix(path, "nimblepane/")
	if !ok {
		return "", -1
	}
	part, _, _ := strings.Cut(rest, "/")
	return part, slices.Index(layers, part)
}

func TestImportsPointDown(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		part, from := layer(p.ImportPath)
		if p.ImportPath == "nimblepane" {
			continue
		}
		require.GreaterOrEqual(t, from, 0, "%s is in no layer: add %q to the list", p.ImportPath, part)
		for _, i := range p.Imports {
			if _, to := layer(i); to >= 0 {
				require.GreaterOrEqual(t, to, from, "%s imports %s, which is above it", p.ImportPath, i)
			}
		}
	}
}

// TestCoreIsPure keeps clocks, networks, databases and loggers out of the core.
func TestCoreIsPure(t *testing.T) {
	t.Parallel()
	banned := []string{
		"net", "net/http", "os", "os/exec", "database/sql", "log", "log/slog", "sync", "context",
		"gorm.io/gorm", "github.com/jackc/pgx/v5",
	}
	for _, p := range packages(t) {
		if part, _ := layer(p.ImportPath); part != "core" {
			continue
		}
		for _, i := range p.Imports {
			require.NotContains(t, banned, i, "%s imports %s", p.ImportPath, i)
		}
	}
}

// TestTheRuntimeKnowsNoSubject keeps what is common to all subjects free of any.
func TestTheRuntimeKnowsNoSubject(t *testing.T) {
	t.Parallel()
	for _, p := range packages(t) {
		if p.ImportPath != "nimblepane/engine" {
			continue
		}
		for _, i := range p.Imports {
			require.True(t, i == "nimblepane/engine/trouble" || !strings.HasPrefix(i, "nimblepane/engine/"),
				"the runtime imports %s", i)
		}
	}
}

// TestHostsChangeStateInOnePlace keeps the statements that do so in one file,
// beside the table of what can follow what.
func TestHostsChangeStateInOnePlace(t *testing.T) {
	t.Parallel()
	files, err := filepath.Glob("store/*.go")
	require.NoError(t, err)
	statements := regexp.MustCompile("update hosts[^`\"]*")
	changes := func(text string) (n int) {
		for _, statement := range statements.FindAllString(text, -1) {
			if set, _, _ := strings.Cut(statement, "where"); strings.Contains(set, " state = ") {
				n++
			}
		}
		return n
	}
	found := 0
	for _, name := range files {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		n := changes(string(text))
		if name == "store/hoststate.go" {
			found = n
		} else if !strings.HasSuffix(name, "_test.go") {
			require.Zero(t, n, name)
		}
	}
	require.Positive(t, found)
}

// TestAPIAndEngineHoldNoSQL keeps statements in the store: what is asked of the
// database has a name there.
func TestAPIAndEngineHoldNoSQL(t *testing.T) {
	t.Parallel()
	statements := []string{
		"Raw", "Exec", "Where", "Order", "Select", "Joins", "Table", "Find", "Take", "Pluck",
		"Clauses",
	}
	files, err := filepath.Glob("api/*.go")
	require.NoError(t, err)
	for _, in := range []string{"engine/*.go", "engine/*/*.go"} {
		more, err := filepath.Glob(in)
		require.NoError(t, err)
		require.NotEmpty(t, more)
		files = append(files, more...)
	}
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		fset := token.NewFileSet()
		file, err := parser.ParseFile(fset, name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			if call, ok := n.(*ast.CallExpr); ok {
				if s, ok := call.Fun.(*ast.SelectorExpr); ok && len(call.Args) > 0 && text(call.Args[0]) {
					require.NotContains(t, statements, s.Sel.Name, "%s", fset.Position(s.Pos()))
				}
			}
			return true
		})
	}
}

// text says that an expression is a string, or is made of some: a statement, or a part of one.
func text(e ast.Expr) bool {
	switch e := e.(type) {
	case *ast.BasicLit:
		return e.Kind == token.STRING
	case *ast.BinaryExpr:
		return text(e.X) || text(e.Y)
	}
	return false
}
