// Command clients calls operations of a service through a Go client that was generated from the API's description, and
// writes what they answered.
package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"reflect"
	"strings"
)

// call is an operation to call, with the parameters of its path in order.
type call struct {
	Method string // of the client, such as ShowHost
	Path   []string
	Query  map[string]string
}

// answered is what a call was answered.
type answered struct {
	Method      string
	Status      int
	ContentType string
	Body        []byte
	Decoded     bool // the client knew the shape of the answer
}

func main() {
	if err := run(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run(url, token string) error {
	var calls []call
	if err := json.NewDecoder(os.Stdin).Decode(&calls); err != nil {
		return err
	}
	signed := func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+token)
		return nil
	}
	c, err := NewClientWithResponses(url, WithRequestEditorFn(signed))
	if err != nil {
		return err
	}
	out := json.NewEncoder(os.Stdout)
	for _, one := range calls {
		a, err := one.make(c)
		if err != nil {
			return fmt.Errorf("%s: %w", one.Method, err)
		}
		if err := out.Encode(a); err != nil {
			return err
		}
	}
	return nil
}

func (c call) make(client *ClientWithResponses) (answered, error) {
	method := reflect.ValueOf(client).MethodByName(c.Method + "WithResponse")
	if !method.IsValid() {
		return answered{}, fmt.Errorf("the client has no such method")
	}
	args := []reflect.Value{reflect.ValueOf(context.Background())}
	for i := 1; i < method.Type().NumIn()-1; i++ { // the last are editors of the request
		arg := reflect.New(method.Type().In(i))
		text := ""
		if arg.Elem().Kind() == reflect.Pointer {
			query, _ := json.Marshal(c.Query)
			text = string(query)
		} else {
			text = c.Path[0]
			c.Path = c.Path[1:]
			if arg.Elem().Kind() == reflect.String {
				quoted, _ := json.Marshal(text)
				text = string(quoted)
			}
		}
		if err := json.Unmarshal([]byte(text), arg.Interface()); err != nil {
			return answered{}, err
		}
		args = append(args, arg.Elem())
	}
	results := method.Call(args)
	if err, _ := results[1].Interface().(error); err != nil {
		return answered{}, err
	}
	answer := results[0].Elem()
	response := answer.FieldByName("HTTPResponse").Interface().(*http.Response)
	a := answered{
		Method: c.Method, Status: response.StatusCode, ContentType: response.Header.Get("Content-Type"),
		Body: answer.FieldByName("Body").Bytes(),
	}
	for i := range answer.NumField() {
		if strings.HasSuffix(answer.Type().Field(i).Name, "200") {
			a.Decoded = a.Decoded || !answer.Field(i).IsNil()
		}
	}
	return a, nil
}
