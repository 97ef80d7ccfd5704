package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"slices"
	"strconv"
	"strings"
)

// mutant is a file with one small change.
type mutant struct {
	file string // from the project's root
	in   string // the function
	line int
	from string // what stands there
	to   string // what stands there instead
	nth  int    // how many times the function had the same change before
	text []byte
}

// String names the change, whatever the line it is in.
func (m mutant) String() string {
	what := fmt.Sprintf("%s %s: %s → %s", m.file, m.in, m.from, m.to)
	if m.nth > 0 {
		what += fmt.Sprintf(" (%d)", m.nth+1)
	}
	return what
}

// Operators and what they are changed into: turned, and moved by a bound.
var operators = map[token.Token][]token.Token{
	token.LSS: {token.LEQ, token.GEQ}, token.LEQ: {token.LSS, token.GTR},
	token.GTR: {token.GEQ, token.LEQ}, token.GEQ: {token.GTR, token.LSS},
	token.EQL: {token.NEQ}, token.NEQ: {token.EQL},
	token.LAND: {token.LOR}, token.LOR: {token.LAND},
	token.ADD: {token.SUB}, token.SUB: {token.ADD}, token.MUL: {token.QUO}, token.QUO: {token.MUL},
}

// mutants returns the small changes that can be made to a file: an operator is
// another, a condition is turned, a number is one more, a statement is dropped.
func mutants(path string, src []byte) (out []mutant, err error) {
	fset := token.NewFileSet()
	file, err := parser.ParseFile(fset, path, src, parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	function := ""
	seen := map[string]int{}
	at := func(p token.Pos) int { return fset.Position(p).Offset }
	change := func(from, to token.Pos, what, into string, replacement string) {
		m := mutant{file: path, in: function, line: fset.Position(from).Line, from: what, to: into}
		m.nth = seen[m.in+m.from+m.to]
		seen[m.in+m.from+m.to]++
		m.text = slices.Concat(src[:at(from)], []byte(replacement), src[at(to):])
		out = append(out, m)
	}
	text := func(n ast.Node) string {
		return strings.Join(strings.Fields(string(src[at(n.Pos()):at(n.End())])), " ")
	}
	short := func(n ast.Node) string {
		s := strings.ReplaceAll(text(n), "`", "'")
		if len(s) > 90 {
			s = s[:90] + "…"
		}
		return s
	}
	turn := func(cond ast.Expr) {
		if _, binary := cond.(*ast.BinaryExpr); !binary && cond != nil {
			change(cond.Pos(), cond.End(), short(cond), "not", "!("+text(cond)+")")
		}
	}
	drop := func(list []ast.Stmt) {
		for _, s := range list {
			switch s := s.(type) {
			case *ast.AssignStmt, *ast.IncDecStmt, *ast.ExprStmt, *ast.BranchStmt, *ast.DeferStmt, *ast.ReturnStmt:
				change(s.Pos(), s.End(), short(s), "nothing", "")
			}
		}
	}
	for _, d := range file.Decls {
		function = "declarations"
		f, ok := d.(*ast.FuncDecl)
		if ok {
			function = f.Name.Name
		}
		ast.Inspect(d, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.BinaryExpr:
				for _, other := range operators[n.Op] {
					end := n.OpPos + token.Pos(len(n.Op.String()))
					change(n.OpPos, end, short(n), other.String(), other.String())
				}
			case *ast.BasicLit:
				if i, err := strconv.Atoi(n.Value); err == nil && ok {
					change(n.Pos(), n.End(), n.Value, strconv.Itoa(i+1), strconv.Itoa(i+1))
				}
			case *ast.IfStmt:
				turn(n.Cond)
			case *ast.BlockStmt:
				drop(n.List)
			case *ast.CaseClause:
				drop(n.Body)
			case *ast.ImportSpec, *ast.StructType:
				return false
			}
			return true
		})
	}
	return out, nil
}
