package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nimblepane/engine"
	"nimblepane/store"
)

func init() {
	// Names of fields are matched to the letter: see core/strict.
	huma.ValidateStrictCasing = true
	huma.NewError = newError
}

// problemPrefix begins the types of problems (RFC 9457, section 3.1.1), which programs tell problems apart by.
const problemPrefix = "urn:nimblepane:problem:"

// uncleared is the type of a conflict: the version lacks clearance.
const uncleared = problemPrefix + "uncleared"

// problemTypes are the types by status. The others mean no more than their status does.
var problemTypes = map[int]string{
	http.StatusBadRequest: problemPrefix + "malformed", http.StatusUnauthorized: problemPrefix + "not-signed-in",
	http.StatusForbidden: problemPrefix + "forbidden", http.StatusNotFound: problemPrefix + "not-found",
	http.StatusConflict: problemPrefix + "conflict", http.StatusPreconditionFailed: problemPrefix + "changed-meanwhile",
	http.StatusRequestEntityTooLarge: problemPrefix + "too-large",
	http.StatusUnprocessableEntity:   problemPrefix + "invalid",
	http.StatusPreconditionRequired:  problemPrefix + "precondition-required",
	http.StatusTooManyRequests:       problemPrefix + "too-many-requests",
	http.StatusInternalServerError:   problemPrefix + "failed",
	http.StatusServiceUnavailable:    problemPrefix + "unavailable",
}

// newError makes problem details. They say what is wrong and where, and never
// repeat a value: it could be a password.
func newError(status int, text string, errs ...error) huma.StatusError {
	e := &huma.ErrorModel{Type: problemTypes[status], Status: status, Title: http.StatusText(status), Detail: text}
	for _, err := range errs {
		if err == nil {
			continue
		}
		var d huma.ErrorDetailer
		if errors.As(err, &d) {
			detail := *d.ErrorDetail()
			detail.Value = nil
			e.Errors = append(e.Errors, &detail)
		} else {
			e.Errors = append(e.Errors, &huma.ErrorDetail{Message: err.Error()})
		}
	}
	if text == "validation failed" {
		e.Detail = "the request is not right"
		if len(e.Errors) == 1 {
			e.Detail += ": " + strings.TrimPrefix(e.Errors[0].Location+": "+e.Errors[0].Message, ": ")
			e.Errors = nil
		}
	}
	return e
}

// problem answers with problem details and ends the request.
func problem(c *gin.Context, status int, detail string) {
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(status, newError(status, detail))
}

// later is an error for what may be tried again after a wait.
func later(status int, wait time.Duration, text string) error {
	seconds := strconv.Itoa(max(1, int(wait.Round(time.Second).Seconds())))
	return huma.ErrorWithHeaders(huma.NewError(status, text), http.Header{"Retry-After": {seconds}})
}

// away is what the log says of a database that is not there.
const away = "the database does not answer"

var errAway = later(http.StatusServiceUnavailable, time.Second, "the database does not answer; try again")

// explain turns an error into problem details.
func (s *Server) explain(operation string, err error) error {
	var p *engine.Problem
	var already huma.StatusError
	switch {
	case errors.As(err, &already):
		return err
	case errors.As(err, &p):
		status := map[engine.ProblemKind]int{
			engine.Invalid: http.StatusUnprocessableEntity, engine.Conflict: http.StatusConflict,
			engine.Uncleared: http.StatusConflict, engine.Stale: http.StatusPreconditionFailed,
			engine.Forbidden: http.StatusForbidden,
		}[p.Kind]
		details := make([]error, len(p.Reasons))
		for i, r := range p.Reasons {
			details[i] = &huma.ErrorDetail{Message: r}
		}
		problem := huma.NewError(status, p.Text, details...)
		if model, is := problem.(*huma.ErrorModel); is && p.Kind == engine.Uncleared {
			model.Type = uncleared
		}
		return problem
	case errors.Is(err, store.ErrNotFound):
		return huma.Error404NotFound(err.Error())
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the caller went away")
	case store.IsRefusal(err):
		s.log.Warn("a request held what cannot be kept", "operation", operation, "err", err)
		return huma.Error422UnprocessableEntity("the request holds a value that cannot be kept")
	case store.IsAway(err):
		s.away.Failed(away, err)
		return errAway
	}
	s.log.Error("a request failed", "operation", operation, "err", err)
	return huma.Error500InternalServerError("the service failed; its log says more")
}

// fits returns a problem if what did not come by HTTP is not as its type describes it.
func fits(v any) error {
	text, err := json.Marshal(v)
	if err != nil {
		return err
	}
	var plain any
	if err := json.Unmarshal(text, &plain); err != nil {
		return err
	}
	var wrong []string
	for _, err := range huma.NewModelValidator().Validate(reflect.TypeOf(v), plain) {
		var d huma.ErrorDetailer
		if errors.As(err, &d) {
			wrong = append(wrong, strings.TrimPrefix(d.ErrorDetail().Location+": "+d.ErrorDetail().Message, ": "))
		} else {
			wrong = append(wrong, err.Error())
		}
	}
	if len(wrong) == 0 {
		return nil
	}
	return &engine.Problem{Kind: engine.Invalid, Text: strings.Join(wrong, "; ")}
}
