package strict

import (
	"encoding"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
)

// Places are where the values of a document stand, by paths such as "steps[2].install".
type Places map[string]Place

// Of returns where the value of the path stands, or the nearest thing around it that is in the document.
func (ps Places) Of(path string) Place {
	for {
		if place, ok := ps[path]; ok || path == "" {
			return place
		}
		path = path[:max(0, strings.LastIndexAny(path, ".["))]
	}
}

// ReadYAML reads one plain document into the struct that into points to, whose
// fields say with yaml tags what their keys are. It finds all keys and values
// that do not fit, and says where what it read stands. A text that CheckYAML
// would not take, or that is no YAML, has one problem.
//
// Fields are texts, whole numbers, booleans, structs, slices, maps by text,
// pointers to these, what reads itself from a text (encoding.TextUnmarshaler),
// and any, which takes one text, whole number or boolean.
func ReadYAML(text []byte, into any) (Places, []YAMLProblem) {
	if p := CheckYAML(text); p != nil {
		return nil, []YAMLProblem{*p}
	}
	tree, err := parser.ParseBytes(text, 0)
	if err != nil {
		p := YAMLProblem{Place: Place{1, 1}, Text: err.Error()}
		var y yaml.Error
		if errors.As(err, &y) && y.GetToken() != nil {
			at := y.GetToken().Position
			p = YAMLProblem{Place: placeOf(at.Line, at.Column), Text: y.GetMessage()}
		}
		return nil, []YAMLProblem{p}
	}
	r := reader{places: Places{"": {1, 1}}}
	if len(tree.Docs) == 0 || tree.Docs[0].Body == nil {
		return r.places, []YAMLProblem{{Place: Place{1, 1}, Text: "the file is empty"}}
	}
	r.read("", tree.Docs[0].Body, reflect.ValueOf(into).Elem())
	return r.places, r.problems
}

func placeOf(line, column int) Place { return Place{max(1, line), max(1, column)} }

type reader struct {
	places   Places
	problems []YAMLProblem
}

func (r *reader) problem(path string, n ast.Node, format string, args ...any) {
	r.problems = append(r.problems, YAMLProblem{beginOf(n), path, fmt.Sprintf(format, args...)})
}

func (r *reader) read(path string, n ast.Node, into reflect.Value) {
	at := func(wanted string) {
		r.problem(path, n, "%s has to be %s, and is %s", named(path), wanted, shapeOf(n))
	}
	switch into.Kind() {
	case reflect.Pointer:
		into.Set(reflect.New(into.Type().Elem()))
		r.read(path, n, into.Elem())
	case reflect.Struct:
		if m, ok := n.(*ast.MappingNode); ok {
			r.fields(path, m.Values, into)
		} else {
			at("keys with values")
		}
	case reflect.Map:
		m, ok := n.(*ast.MappingNode)
		if !ok {
			at("names with values")
			return
		}
		into.Set(reflect.MakeMapWithSize(into.Type(), len(m.Values)))
		for _, e := range m.Values {
			value := reflect.New(into.Type().Elem()).Elem()
			r.entry(path, keyOf(e), e, value)
			into.SetMapIndex(reflect.ValueOf(keyOf(e)).Convert(into.Type().Key()), value)
		}
	case reflect.Slice:
		list, ok := n.(*ast.SequenceNode)
		if !ok {
			at("a list")
			return
		}
		into.Set(reflect.MakeSlice(into.Type(), len(list.Values), len(list.Values)))
		for i, item := range list.Values {
			itemPath := fmt.Sprintf("%s[%d]", path, i)
			r.note(itemPath, item)
			r.read(itemPath, item, into.Index(i))
		}
	default:
		r.scalar(path, n, into, at)
	}
}

func (r *reader) scalar(path string, n ast.Node, into reflect.Value, at func(wanted string)) {
	value, known := scalarOf(n)
	if own, ok := into.Addr().Interface().(encoding.TextUnmarshaler); ok {
		if text, ok := value.(string); !ok {
			at("a text")
		} else if err := own.UnmarshalText([]byte(text)); err != nil {
			r.problem(path, n, "%s: %s", path, err)
		}
		return
	}
	if into.Kind() == reflect.Interface {
		if !known {
			at("a text, a whole number, true or false")
			return
		}
		into.Set(reflect.ValueOf(value))
		return
	}
	switch v := value.(type) {
	case string:
		if into.Kind() == reflect.String {
			into.SetString(v)
			return
		}
	case bool:
		if into.Kind() == reflect.Bool {
			into.SetBool(v)
			return
		}
	case int64:
		if into.CanInt() && !into.OverflowInt(v) {
			into.SetInt(v)
			return
		}
	}
	switch {
	case into.Kind() == reflect.String && known:
		at("a text: put it in quotes")
	case into.Kind() == reflect.String:
		at("a text")
	case into.Kind() == reflect.Bool:
		at("true or false")
	default:
		at("a whole number")
	}
}

// fields reads the entries into the fields of a struct.
func (r *reader) fields(path string, entries []*ast.MappingValueNode, into reflect.Value) {
	byKey, keys := map[string][]int{}, []string{}
	for _, f := range reflect.VisibleFields(into.Type()) {
		if key, _, _ := strings.Cut(f.Tag.Get("yaml"), ","); key != "" {
			byKey[key], keys = f.Index, append(keys, key)
		}
	}
	for _, e := range entries {
		key := keyOf(e)
		index, known := byKey[key]
		if !known {
			within := ""
			if path != "" {
				within = " in " + path
			}
			r.problem(joined(path, key), e.Key, "there is no key %q%s: use %s", shown(key), within, oneOf(keys))
			continue
		}
		r.entry(path, key, e, into.FieldByIndex(index))
	}
}

func (r *reader) entry(path, key string, e *ast.MappingValueNode, into reflect.Value) {
	path = joined(path, key)
	r.note(path, e.Key)
	if _, empty := e.Value.(*ast.NullNode); empty {
		r.problem(path, e.Key, "there is nothing behind %s: write a value, or leave the key out", path)
		return
	}
	r.read(path, e.Value, into)
}

func joined(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func (r *reader) note(path string, n ast.Node) {
	r.places[path] = beginOf(n)
}

func beginOf(n ast.Node) Place {
	at := n.GetToken().Position
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		at = m.Values[0].Key.GetToken().Position // and not the colon behind it
	}
	return placeOf(at.Line, at.Column)
}

func keyOf(e *ast.MappingValueNode) string {
	if s, ok := e.Key.(*ast.StringNode); ok {
		return s.Value
	}
	return strings.TrimSpace(e.Key.GetToken().Value)
}

// scalarOf returns a text, a whole number or a boolean; false if the node is none of them.
func scalarOf(n ast.Node) (any, bool) {
	switch n := n.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.LiteralNode:
		return n.Value.Value, true
	case *ast.BoolNode:
		return n.Value, true
	case *ast.IntegerNode:
		i, err := strconv.ParseInt(n.GetToken().Value, 10, 64)
		return i, err == nil
	}
	return nil, false
}

func shapeOf(n ast.Node) string {
	switch v, _ := scalarOf(n); v := v.(type) {
	case string:
		return fmt.Sprintf("the text %q", shown(v))
	case int64:
		return fmt.Sprintf("the number %d", v)
	case bool:
		return fmt.Sprint(v)
	}
	switch n.(type) {
	case *ast.MappingNode:
		return "keys with values"
	case *ast.SequenceNode:
		return "a list"
	case *ast.NullNode:
		return "empty"
	}
	return fmt.Sprintf("%q", shown(n.GetToken().Value))
}

func named(path string) string {
	if path == "" {
		return "the file"
	}
	return path
}

// oneOf lists what could stand somewhere.
func oneOf(list []string) string {
	list = slices.Clone(list)
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}
