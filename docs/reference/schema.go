package main

import (
	"encoding/json"
	"reflect"

	"github.com/invopop/jsonschema"

	"nimblepane/core/seal"
	"nimblepane/core/sheet"
)

const schemaFile = "core/sheet/sheet.schema.json"

// sheetSchema describes build sheets for editors, as a JSON Schema of draft 2020-12. What it says of a
// key is the comment at its field.
func sheetSchema() ([]byte, error) {
	r := jsonschema.Reflector{FieldNameTag: "yaml", RequiredFromJSONSchemaTags: true, Anonymous: true, Mapper: shape}
	for _, folder := range []string{"core/sheet", "core/secret"} {
		if err := r.AddGoComments("nimblepane", folder); err != nil {
			return nil, err
		}
	}
	s := r.Reflect(&sheet.Sheet{})
	s.Title = "Build sheet"
	within := func(name string) *jsonschema.Schema { return s.Definitions[name] }
	within("Sheet").Required = []string{"image", "base", "machine", "steps"}
	within("Machine").Required = []string{"site"}
	within("Base").MinProperties, within("Base").MaxProperties = new(uint64(1)), new(uint64(1))
	step := within("Step")
	step.Required = []string{"name"}
	for _, kind := range sheet.AllKinds() {
		step.OneOf = append(step.OneOf, &jsonschema.Schema{Required: []string{string(kind)}})
	}
	for name, keys := range map[string][]string{
		"Put": {"to"}, "Use": {"step"}, "Fetch": {"from", "sha256", "to"}, "Packages": {"packages"},
		"OnFailure": {"do"},
	} {
		within(name).Required = keys
	}
	for name, keys := range map[string][]string{"Script": {"text", "file"}, "Put": {"text", "file", "folder"}} {
		for _, key := range keys {
			of := within(name)
			of.OneOf = append(of.OneOf, &jsonschema.Schema{Required: []string{key}})
		}
	}
	source := within("Source")
	source.MinProperties, source.MaxProperties = new(uint64(1)), new(uint64(1))
	waive, _ := within("Checks").Properties.Get("waive")
	check := &jsonschema.Schema{AnyOf: []*jsonschema.Schema{
		{Enum: listed(seal.Checks())}, {Pattern: "^own-[a-z0-9]+(-[a-z0-9]+)*$"},
	}}
	waive.PropertyNames = check
	block, _ := within("Checks").Properties.Get("block")
	block.Items = check
	steps, _ := within("Sheet").Properties.Get("steps")
	steps.MinItems, steps.MaxItems = new(uint64(1)), new(uint64(sheet.MostSteps))
	text, err := json.MarshalIndent(s, "", "  ")
	return append(text, '\n'), err
}

// shape says how types are written down that read themselves from a text.
func shape(t reflect.Type) *jsonschema.Schema {
	switch t {
	case reflect.TypeFor[sheet.Span]():
		return &jsonschema.Schema{Type: "string", Examples: []any{"30s", "90m", "1h30m"}}
	case reflect.TypeFor[sheet.Size]():
		return &jsonschema.Schema{Type: "string", Examples: []any{"512MiB", "8GiB"}}
	case reflect.TypeFor[sheet.Type]():
		return &jsonschema.Schema{Enum: []any{sheet.TextType, sheet.NumberType, sheet.SwitchType}}
	case reflect.TypeFor[sheet.Updates]():
		return &jsonschema.Schema{Enum: []any{sheet.AllUpdates, sheet.SecurityUpdates}}
	case reflect.TypeFor[sheet.Remedy]():
		return &jsonschema.Schema{Enum: []any{sheet.Stop, sheet.GoOn, sheet.Again}}
	case reflect.TypeFor[any]():
		return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{{Type: "string"}, {Type: "integer"}, {Type: "boolean"}}}
	}
	return nil
}

func listed[T any](list []T) []any {
	values := make([]any, len(list))
	for i, v := range list {
		values[i] = v
	}
	return values
}
