// Package strict reads JSON that comes from others.
//
// A name is matched to the letter, and stands once; a name that is not known
// is refused. Text is UTF-8 without NUL, which no database column could keep,
// and nothing is nested deeper than anything of ours is. Go's own decoder lets
// "Days" set what "days" was checked for.
package strict

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"
)

// Depth is how deep objects and lists may be nested.
const Depth = 32

var options = json.JoinOptions(
	jsonv1.DefaultOptionsV1(), // how types of Go are written stays as it was
	jsonv1.ReportErrorsWithLegacySemantics(false),
	json.MatchCaseInsensitiveNames(false),
	json.RejectUnknownMembers(true),
	jsontext.AllowDuplicateNames(false),
	jsontext.AllowInvalidUTF8(false),
)

// Unmarshal reads one value and nothing behind it. The error says what is
// wrong and where, as a JSON pointer, and repeats no value.
func Unmarshal(text []byte, into any) error {
	if err := check(text); err != nil {
		return explain(err)
	}
	return explain(json.Unmarshal(text, into, options))
}

// check walks through the text before anything is made of it, if there can be
// anything to find: few texts open so much, or write a NUL.
func check(text []byte) error {
	opened := bytes.Count(text, []byte("{")) + bytes.Count(text, []byte("["))
	if opened <= Depth && !bytes.Contains(text, []byte(`\u0000`)) {
		return nil
	}
	d := jsontext.NewDecoder(bytes.NewReader(text), options)
	for {
		t, err := d.ReadToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if d.StackDepth() > Depth {
			return fmt.Errorf("it is nested deeper than %d", Depth)
		}
		if t.Kind() == '"' && strings.ContainsRune(t.String(), 0) {
			return fmt.Errorf("the text at %q holds a NUL character", d.StackPointer())
		}
	}
}

func explain(err error) error {
	var shape *json.SemanticError
	var form *jsontext.SyntacticError
	switch {
	case errors.As(err, &shape):
		at := string(shape.JSONPointer)
		if errors.Is(shape.Err, json.ErrUnknownName) {
			return fmt.Errorf("there is no field %q", at)
		}
		return fmt.Errorf("at %q a JSON %s does not fit", at, shape.JSONKind)
	case errors.As(err, &form):
		if errors.Is(form.Err, jsontext.ErrDuplicateName) {
			return fmt.Errorf("the name %q stands there twice", form.JSONPointer)
		}
		if errors.Is(form.Err, io.ErrUnexpectedEOF) {
			return errors.New("the text ends too early (unexpected end)")
		}
		return fmt.Errorf("byte %d, at %q: %w", form.ByteOffset, form.JSONPointer, form.Err)
	}
	return err
}
