package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	_ "github.com/oapi-codegen/runtime" // the generated client imports it
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/internal/servicetest"
)

// description is the API's, as far as the test reads it.
type description struct {
	Paths map[string]struct {
		Get *struct {
			ID         string `json:"operationId"`
			Parameters []struct {
				Name, In string
				Required bool
			}
			Responses map[string]struct{ Content map[string]any }
		}
	}
}

// called is a GET with parameters that make it answer.
type called struct {
	Method string
	Path   []string
	Query  map[string]string
	at     string // path in the description
}

// TestGeneratedClientsCallEveryGet has clients in Go and TypeScript, which are generated from the API's description,
// call everything that is read, and compares each answer with the description.
func TestGeneratedClientsCallEveryGet(t *testing.T) {
	t.Parallel()
	const document = "../../docs/openapi.json"
	text, err := os.ReadFile(document)
	require.NoError(t, err)
	var api description
	require.NoError(t, json.Unmarshal(text, &api))

	s, values := furnished(t)
	var calls []called
	placeholder := regexp.MustCompile(`\{(\w+)\}`)
	for path, methods := range api.Paths {
		if methods.Get == nil || path == "/api/v1/events" { // a stream without an end
			continue
		}
		of := called{Method: goName(methods.Get.ID), Query: map[string]string{}, at: path}
		for _, name := range placeholder.FindAllStringSubmatch(path, -1) {
			of.Path = append(of.Path, valueOf(t, values, path, name[1]))
		}
		for _, p := range methods.Get.Parameters {
			if p.In == "query" && p.Required {
				of.Query[p.Name] = valueOf(t, values, path, p.Name)
			}
		}
		calls = append(calls, of)
	}
	require.Greater(t, len(calls), 60)

	t.Run("Go", func(t *testing.T) {
		compiler := jsonschema.NewCompiler()
		compiler.AssertFormat()
		at, err := filepath.Abs(document)
		require.NoError(t, err)
		for _, a := range callInGo(t, s, calls) {
			of := calls[0]
			for _, c := range calls {
				if c.Method == a.Method {
					of = c
				}
			}
			if !assert.Equal(t, 200, a.Status, "%s: %s", of.at, a.Body) {
				continue
			}
			media, _, err := mime.ParseMediaType(a.ContentType)
			require.NoError(t, err, of.at)
			answer := api.Paths[of.at].Get.Responses["200"].Content
			assert.Contains(t, answer, media, "%s answers with a media type that is not described", of.at)
			if media != "application/json" {
				assert.NotEmpty(t, a.Body, of.at)
				continue
			}
			assert.True(t, a.Decoded, "%s: the client does not know the answer", of.at)
			schema, err := compiler.Compile("file://" + at + "#/paths/" + strings.ReplaceAll(of.at, "/", "~1") +
				"/get/responses/200/content/application~1json/schema")
			require.NoError(t, err, of.at)
			value, err := jsonschema.UnmarshalJSON(bytes.NewReader(a.Body))
			require.NoError(t, err)
			assert.NoError(t, schema.Validate(value), of.at)
		}
	})
	t.Run("TypeScript", func(t *testing.T) {
		given, err := json.Marshal(values)
		require.NoError(t, err)
		run := exec.CommandContext(t.Context(), "npx", "vitest", "run", "src/every-get.test.ts")
		run.Dir = "../../console"
		run.Env = append(os.Environ(), "NIMBLEPANE_URL="+s.URL, "NIMBLEPANE_TOKEN="+s.Token(role.Administrator),
			"NIMBLEPANE_VALUES="+string(given))
		out, err := run.CombinedOutput()
		require.NoError(t, err, "%s", out)
		require.NotContains(t, string(out), "skipped")
	})
}

func valueOf(t *testing.T, values map[string]string, path, name string) string {
	t.Helper()
	for at, value := range values {
		if key, of, is := strings.Cut(at, "@"); is && key == name && strings.Contains(path, of) {
			return value
		}
	}
	require.Contains(t, values, name, "give a value for %s", path)
	return values[name]
}

// goName is the generated client's name of an operation.
func goName(id string) string {
	name := ""
	for part := range strings.SplitSeq(id, "-") {
		name += strings.ToUpper(part[:1]) + part[1:]
	}
	return name
}

// inGo is what the client in Go was answered.
type inGo struct {
	Method, ContentType string
	Status              int
	Body                []byte
	Decoded             bool
}

// generator makes a Go client from a description. Nothing else of the project needs its many modules.
const generator = "github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2"

// callInGo generates the client, compiles it together with testdata/clients, and runs it.
func callInGo(t *testing.T, s *servicetest.Service, calls []called) (answers []inGo) {
	t.Helper()
	folder := "../../.state/clients" // within the module, whose packages it uses
	require.NoError(t, os.MkdirAll(folder, 0o755))
	program, err := os.ReadFile("testdata/clients/main.go")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "main.go"), program, 0o600))
	generate := exec.CommandContext(t.Context(), "go", "run", generator, "-generate", "types,client", "-package",
		"main", "-o", filepath.Join(folder, "client.go"), "../../docs/openapi.json")
	out, err := generate.CombinedOutput()
	require.NoError(t, err, "%s", out)
	given, err := json.Marshal(calls)
	require.NoError(t, err)
	var answered, wrong bytes.Buffer
	run := exec.CommandContext(t.Context(), "go", "run", "./"+folder, s.URL, s.Token(role.Administrator))
	run.Stdin, run.Stdout, run.Stderr = bytes.NewReader(given), &answered, &wrong
	require.NoError(t, run.Run(), "%s", &wrong)
	for lines := json.NewDecoder(&answered); lines.More(); {
		var a inGo
		require.NoError(t, lines.Decode(&a))
		answers = append(answers, a)
	}
	require.Len(t, answers, len(calls))
	return answers
}

// furnished is a service with something of everything, and the names of all of it.
func furnished(t *testing.T) (*servicetest.Service, map[string]string) {
	t.Helper()
	s := servicetest.Start(t, servicetest.Options{Scenario: servicetest.Scenario +
		"crowds:\n  - {hosts: bo-, people: 6, shifts: [\"00:00-23:59\"]}\n"})
	ctx, c := t.Context(), s.As(role.Operator)
	s.Live("back-office")
	const sheet = "image: counter-desk\nbase: {disk: vendor.qcow2}\nmachine: {site: north-quay, cores: 4}\n" +
		"steps: [{name: Fare Desk, install: {packages: [fare-desk]}}]\n" +
		"applications: [{name: Fare Desk, command: /usr/bin/fare-desk, opens: {port: 80}}]\n"
	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: sheet})
	require.NoError(t, err)
	s.Until("the build to end", func() bool {
		b, err := c.Build(ctx, begun.ID)
		require.NoError(t, err)
		return b.State.Ended()
	})
	made, err := c.Build(ctx, begun.ID)
	require.NoError(t, err)
	require.Equal(t, build.Ready, made.State, made.Why)
	proofs, err := c.Proofs(ctx, "counter-desk", "", 10)
	require.NoError(t, err)
	require.NotEmpty(t, proofs)

	s.MadeMachine("bm-new")
	_, err = c.TryStepOnBuildMachine(ctx, "north-quay", "bm-new", client.TryStep{Sheet: sheet, Step: "Fare Desk"})
	require.NoError(t, err)
	s.Runs("bm-new")
	require.NoError(t, c.PutOnBuildMachine(ctx, "north-quay", "bm-new", "/root/fares", []byte("1\n")))
	_, err = c.OpenOnBuildMachine(ctx, "north-quay", "bm-new", client.OpenApplications{Sheet: sheet})
	require.NoError(t, err)
	s.Until("the application to be opened", func() bool {
		o, err := c.MachineOpening(ctx, "north-quay", "bm-new")
		require.NoError(t, err)
		return o.State != build.UnderWay
	})
	_, err = c.CheckBuildMachine(ctx, "north-quay", "bm-new")
	require.NoError(t, err)
	s.Until("the checks to be made", func() bool {
		m, err := c.MachineCheck(ctx, "north-quay", "bm-new")
		require.NoError(t, err)
		return m.State != build.UnderWay
	})
	_, err = c.SaveSheet(ctx, "desk", 0, client.SheetText{Text: sheet})
	require.NoError(t, err)
	_, err = c.AddSchedule(ctx, client.NewSchedule{
		Name: "monthly", Sheet: "desk", Mode: schedule.Dates, Rule: "FREQ=DAILY;BYHOUR=2", Zone: "UTC",
	})
	require.NoError(t, err)
	_, err = c.AddFeed(ctx, client.NewFeed{Name: "estuary", Address: "https://192.0.2.1/releases.json"})
	require.NoError(t, err)
	_, err = c.BringBase(ctx, client.NewBase{Name: "harbour-13", Size: 4096})
	require.NoError(t, err)
	_, err = c.LoadFlaws(ctx, "debian", []byte(`{"id": "A-1", "modified": "2026-11-20T08:00:00Z"}`))
	require.NoError(t, err)
	id := fmt.Sprint(begun.ID)
	return s, map[string]string{
		"image": "counter-desk", "number": made.Version, "pool": "back-office", "host": "bo-001",
		"id@builds": id, "id@rollovers": "1", "id@proofs": fmt.Sprint(proofs[len(proofs)-1].ID), "site": "north-quay",
		"machine": "bm-new", "path": "/root/fares", "application": "Fare Desk", "sheet": "desk", "schedule": "monthly",
		"feed": "estuary", "base": "harbour-13", "name": "fare-desk",
	}
}
