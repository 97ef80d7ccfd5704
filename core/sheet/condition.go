package sheet

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"github.com/dustin/go-humanize/english"
)

// Condition says when a step is done, as an expression of CEL, the Common
// Expression Language (its specification is at https://cel.dev), that comes to
// true or false. It may name
//
//	image   the image that a version is made of
//	site    where the build machine is made
//	base    what it begins with: base.track, base.version, base.named,
//	        base.disk and base.feed (of a vendor's release) are texts, empty
//	        but for the one that the sheet gives
//	values  of the parameters: values.queue, or values["quay-name"] where the
//	        name has a dash; numbers are numbers, switches true or false
//
// It is looked at once, when the build is started, so that a sheet can be
// explained before anything is done.
type Condition string

const (
	mostOfCondition = 1000   // characters
	mostConditions  = 20_000 // characters of all of a sheet
	conditionCost   = 100_000
	// The compiler takes twice as long for each level of a list in a list.
	mostNested = 12
)

// conditions is what they can name. It is made once: that takes some milliseconds.
var conditions, conditionsFailed = cel.NewEnv(
	cel.Variable("image", cel.StringType),
	cel.Variable("site", cel.StringType),
	cel.Variable("base", cel.MapType(cel.StringType, cel.StringType)),
	cel.Variable("values", cel.MapType(cel.StringType, cel.DynType)),
	cel.ParserRecursionLimit(24), cel.ParserExpressionSizeLimit(mostOfCondition),
)

// compiled returns the condition as it can be asked.
func (c Condition) compiled() (*cel.Ast, error) {
	if len(c) > mostOfCondition {
		return nil, fmt.Errorf("it has %d characters: use at most %d", len(c), mostOfCondition)
	}
	if conditionsFailed != nil {
		return nil, conditionsFailed
	}
	if nested(string(c)) > mostNested {
		return nil, fmt.Errorf("it has brackets in brackets, more than %d deep: use fewer", mostNested)
	}
	a, issues := conditions.Compile(string(c))
	if issues.Err() != nil {
		e := issues.Errors()[0]
		return nil, fmt.Errorf("%s (in its line %d, column %d)", e.Message, e.Location.Line(), e.Location.Column()+1)
	}
	if t := a.OutputType(); !t.IsExactType(cel.BoolType) && !t.IsExactType(cel.DynType) {
		return nil, fmt.Errorf("it comes to a value of type %s, and has to come to true or false: compare it with "+
			"something", t)
	}
	return a, nil
}

// nested is how deep the brackets of an expression are nested at most. Those in texts count, too.
func nested(expression string) (most int) {
	depth := 0
	for _, r := range expression {
		switch r {
		case '(', '[', '{':
			depth++
			most = max(most, depth)
		case ')', ']', '}':
			depth--
		}
	}
	return most
}

// unknown returns the parameters that the condition names and that the sheet lacks.
func unknown(a *cel.Ast, parameters map[string]Parameter) (names []string) {
	values := func(e ast.Expr) bool { return e.Kind() == ast.IdentKind && e.AsIdent() == "values" }
	named := func(name string) {
		if _, known := parameters[name]; !known {
			names = append(names, name)
		}
	}
	ast.PreOrderVisit(a.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		switch e.Kind() {
		case ast.SelectKind:
			if s := e.AsSelect(); values(s.Operand()) {
				named(s.FieldName())
			}
		case ast.CallKind:
			call := e.AsCall()
			if call.FunctionName() != "_[_]" || !values(call.Args()[0]) || call.Args()[1].Kind() != ast.LiteralKind {
				return
			}
			if name, is := call.Args()[1].AsLiteral().Value().(string); is {
				named(name)
			}
		}
	}))
	return names
}

func (c *checker) condition(at string, condition Condition, parameters map[string]Parameter) {
	if !c.has(at) || c.done != nil && c.done() != nil {
		return
	}
	if c.conditions += len(condition); c.conditions > mostConditions {
		c.at(at, "%s: the conditions of the sheet have more than %d characters: use fewer, or shorter ones", at,
			mostConditions)
		return
	}
	a, err := condition.compiled()
	if err != nil {
		c.at(at, "%s is no condition: %s", at, err)
		return
	}
	for _, name := range unknown(a, parameters) {
		c.at(at, "%s: there is no parameter %q: write it down under parameters:, or name one of %s", at, name,
			english.OxfordWordSeries(slices.Sorted(maps.Keys(parameters)), "and"))
	}
}

// met says whether the condition is met in a sheet that has its values.
func (c Condition) met(s Sheet) (bool, error) {
	if c == "" {
		return true, nil
	}
	a, err := c.compiled()
	if err != nil {
		return false, err
	}
	program, err := conditions.Program(a, cel.CostLimit(conditionCost))
	if err != nil {
		return false, err
	}
	values := map[string]any{}
	for name, text := range s.Values {
		values[name] = text
		switch s.Parameters[name].Type {
		case NumberType:
			if values[name], err = strconv.ParseInt(text, 10, 64); err != nil {
				return false, err
			}
		case SwitchType:
			values[name] = text == "true"
		}
	}
	out, _, err := program.Eval(map[string]any{
		"image": s.Image, "site": s.Machine.Site, "values": values,
		"base": map[string]string{
			"track": s.Base.Track, "version": s.Base.Version, "disk": s.Base.Disk, "named": s.Base.Named,
			"feed": s.Base.feed(),
		},
	})
	if err != nil {
		return false, fmt.Errorf("it cannot be worked out: %w", err)
	}
	met, is := out.Value().(bool)
	if !is {
		return false, fmt.Errorf("it comes to %v, and has to come to true or false", out.Value())
	}
	return met, nil
}

func words[T ~string](list []T) []string {
	texts := make([]string, len(list))
	for i, w := range list {
		texts[i] = string(w)
	}
	return texts
}

// conditional sets of each step whether it is skipped, and returns what cannot be worked out.
func (s Sheet) conditional() (wrong []string) {
	for i := range s.Steps {
		met, err := s.Steps[i].When.met(s)
		if err != nil {
			wrong = append(wrong, fmt.Sprintf("step %q, its condition %s: %s", s.Steps[i].Name,
				strings.TrimSpace(string(s.Steps[i].When)), err))
		}
		s.Steps[i].Skipped = !met || s.Steps[i].Off
	}
	return wrong
}
