package api

import (
	"net/http"
	"reflect"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"nimblepane/agent"
	"nimblepane/client"
	"nimblepane/core/compare"
	"nimblepane/core/flaw"
	"nimblepane/core/software"
)

// schemaName tells the shapes of the agents' protocol from those of the API.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	for of, prefix := range schemaPrefixes {
		if t.PkgPath() == of.PkgPath() && !strings.HasPrefix(name, prefix) {
			return prefix + name
		}
	}
	return name
}

// schemaPrefixes tell the shapes of some packages, each by one of its types, from others of their names.
var schemaPrefixes = map[reflect.Type]string{
	reflect.TypeFor[agent.Heartbeat]():    "Agent",
	reflect.TypeFor[compare.Comparison](): "Comparison",
	reflect.TypeFor[software.Entry]():     "Software",
	reflect.TypeFor[flaw.Found]():         "Flaw",
}

// others describes what is served beside the operations: the event stream,
// the agents' protocol, and whether the service is well.
func (s *Server) others() {
	doc := s.api.OpenAPI()
	schema := func(v any) *huma.Schema { return doc.Components.Schemas.Schema(reflect.TypeOf(v), true, "") }
	answers := func(contentType string, of *huma.Schema, problems ...int) map[string]*huma.Response {
		out := map[string]*huma.Response{"200": {
			Description: "OK",
			Content:     map[string]*huma.MediaType{contentType: {Schema: of}},
		}}
		for _, p := range problems {
			out[strconv.Itoa(p)] = &huma.Response{
				Description: http.StatusText(p),
				Content: map[string]*huma.MediaType{"application/problem+json": {
					Schema: schema(huma.ErrorModel{}),
				}},
			}
		}
		return out
	}
	text := &huma.Schema{Type: huma.TypeString}
	open := []map[string][]string{{}}
	doc.Components.SecuritySchemes["agent"] = &huma.SecurityScheme{
		Type: "http", Scheme: "bearer",
		Description: "The credential that a host's agent was given when it enrolled",
	}

	event := schema(client.Event{})
	event.Description = "The data of each event; its id is the event's number"
	doc.AddOperation(&huma.Operation{
		Method: http.MethodGet, Path: eventsPath, OperationID: "events", Tags: []string{"service"},
		Summary: "Watch changes, as server-sent events",
		Description: "Each event is named change and has a Change as its data. It tells what to look at again. The " +
			"stream ends with the token or session that let it in; " + strconv.Itoa(streamsEach) +
			" may be open for one account.",
		Parameters: []*huma.Param{{
			Name: "Last-Event-ID", In: "header", Schema: text,
			Description: "Send what came after this event",
		}},
		Responses: answers("text/event-stream", event, http.StatusBadRequest, http.StatusUnauthorized,
			http.StatusTooManyRequests, http.StatusServiceUnavailable),
	})
	call := func(path, id, summary string, security []map[string][]string, in, out any) {
		doc.AddOperation(&huma.Operation{
			Method: http.MethodPost, Path: path, OperationID: id, Tags: []string{"agents"}, Summary: summary,
			Security: security,
			RequestBody: &huma.RequestBody{
				Required: true,
				Content:  map[string]*huma.MediaType{"application/json": {Schema: schema(in)}},
			},
			Responses: answers("application/json", schema(out), http.StatusBadRequest, http.StatusUnauthorized,
				http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity, http.StatusServiceUnavailable),
		})
	}
	call(agent.EnrolPath, "enrol-agent", "Trade a machine's one-time token for a credential", open,
		agent.EnrolRequest{}, agent.EnrolReply{})
	call(agent.HeartbeatPath, "heartbeat", "Report how a host is, and hear what it is to do",
		[]map[string][]string{{"agent": {}}}, agent.Heartbeat{}, agent.Answer{})
	health := func(path, id, summary string, problems ...int) {
		doc.AddOperation(&huma.Operation{
			Method: http.MethodGet, Path: path, OperationID: id, Tags: []string{"service"}, Summary: summary,
			Security:  open,
			Responses: answers("text/plain", text, problems...),
		})
	}
	health("/healthz", "health", "Whether the process runs")
	health("/readyz", "readiness", "Whether the service can work: its database answers", http.StatusServiceUnavailable)
}
