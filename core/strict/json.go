package strict

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// JSON says in plain words why encoding/json could not read a text. Errors of other kinds stay as they are.
func JSON(err error) error {
	var shape *json.UnmarshalTypeError
	var form *json.SyntaxError
	switch {
	case errors.As(err, &shape):
		is, _, _ := strings.Cut(shape.Value, " ") // a number has its value behind it
		field := shape.Field
		if field == "" {
			field = "it"
		}
		return fmt.Errorf("%s has to be %s, and is %s", field, shapeOfKind(shape), articled(is))
	case errors.Is(err, io.ErrUnexpectedEOF), errors.As(err, &form) && strings.HasPrefix(form.Error(),
		"unexpected end"):
		return errors.New("it ends too early")
	case errors.As(err, &form):
		return fmt.Errorf("it is no JSON: byte %d does not belong there", form.Offset)
	}
	return err
}

// shapeOfKind names the JSON value that was wanted.
func shapeOfKind(e *json.UnmarshalTypeError) string {
	kind := e.Type.Kind().String()
	switch {
	case kind == "string":
		return "a text"
	case kind == "bool":
		return "true or false"
	case kind == "slice" || kind == "array":
		return "a list"
	case strings.HasPrefix(kind, "int"), strings.HasPrefix(kind, "uint"):
		return "a whole number"
	case strings.HasPrefix(kind, "float"):
		return "a number"
	}
	return "an object"
}

func articled(value string) string {
	switch value {
	case "string":
		return "a text"
	case "bool":
		return "true or false"
	case "array":
		return "a list"
	case "object":
		return "an object"
	}
	return "a " + value
}
