package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"nimblepane/core/problem"
	"nimblepane/store"
)

func init() {
	// Names of fields are matched to the letter: see core/strict.
	huma.ValidateStrictCasing = true
	huma.NewError = newError
}

// newError makes problem details. They say what is wrong and where, and never
// repeat a value: it could be a password. A problem among the errors replaces
// status and text.
func newError(status int, text string, errs ...error) huma.StatusError {
	var p *problem.Problem
	if errors.As(errors.Join(errs...), &p) {
		return details(p)
	}
	e := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: text}
	if t, known := problem.OfStatus(status); known {
		e.Type, e.Title = t.URI(), t.Entry().Title
	}
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
		e.Detail = "the request is invalid"
		if len(e.Errors) == 1 {
			e.Detail += ": " + strings.TrimPrefix(e.Errors[0].Location+": "+e.Errors[0].Message, ": ")
			e.Errors = nil
		}
	}
	return e
}

// details returns the problem details of a problem.
func details(p *problem.Problem) *huma.ErrorModel {
	e := p.Type.Entry()
	m := &huma.ErrorModel{Type: p.Type.URI(), Status: e.Status, Title: e.Title, Detail: p.Detail}
	for _, r := range p.Reasons {
		m.Errors = append(m.Errors, &huma.ErrorDetail{Message: r})
	}
	return m
}

// abort responds with problem details and ends the request.
func abort(c *gin.Context, t problem.Type, format string, args ...any) {
	p := details(&problem.Problem{Type: t, Detail: fmt.Sprintf(format, args...)})
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(p.Status, p)
}

// later is an error for what may be tried again after a wait.
func later(t problem.Type, wait time.Duration, text string) error {
	seconds := strconv.Itoa(max(1, int(wait.Round(time.Second).Seconds())))
	return huma.ErrorWithHeaders(details(&problem.Problem{Type: t, Detail: text}),
		http.Header{"Retry-After": {seconds}})
}

const failed = "the service failed unexpectedly; its log has the cause"

// away is what the log says of a database that is not there.
const away = "the database does not answer"

var errAway = later(problem.Unavailable, time.Second, "the database does not answer; try again")

// explain turns an error into problem details.
func (s *Server) explain(operation string, err error) error {
	var p *problem.Problem
	var already huma.StatusError
	switch {
	case errors.As(err, &already):
		return err
	case errors.As(err, &p):
		return details(p)
	case errors.Is(err, store.ErrNotFound):
		return details(&problem.Problem{Type: problem.NotFound, Detail: err.Error()})
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the client closed the connection")
	case store.IsRefusal(err):
		s.log.Warn("a request contained a value that the database cannot store", "operation", operation, "err", err)
		return details(&problem.Problem{
			Type: problem.InvalidRequest, Detail: "the request contains a value that the database cannot store",
		})
	case store.IsAway(err):
		s.away.Failed(away, err)
		return errAway
	}
	s.log.Error("a request failed", "operation", operation, "err", err)
	return details(&problem.Problem{Type: problem.Internal, Detail: failed})
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
	return &problem.Problem{Type: problem.InvalidRequest, Detail: strings.Join(wrong, "; ")}
}
