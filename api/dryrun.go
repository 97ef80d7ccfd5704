package api

import (
	"context"
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/store"
)

// dryRunHeader asks whether a request would be refused.
const dryRunHeader = "Dry-Run"

// dryRun has the changes of a request with the header made and taken back.
func dryRun(c *gin.Context) {
	switch value := c.GetHeader(dryRunHeader); value {
	case "":
	case "true":
		c.Request = c.Request.WithContext(engine.WithDryRun(c.Request.Context()))
	default:
		abort(c, problem.InvalidRequest, "%s %q: use true", dryRunHeader, value)
		return
	}
	c.Next()
}

// errPossible responds to a dry run: the request would not be refused.
type errPossible struct{}

func (errPossible) Error() string  { return "the request would not be refused" }
func (errPossible) GetStatus() int { return http.StatusOK }

// tried returns what a dry run responds with. That a record which the change made is not
// found once the change was taken back says nothing about the request.
func tried(ctx context.Context, err error) error {
	if _, reached := engine.DryRun(ctx); err == nil || reached && errors.Is(err, store.ErrNotFound) {
		return errPossible{}
	}
	return err
}
