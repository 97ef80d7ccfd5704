package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"nimblepane/core/problem"

	"github.com/gin-gonic/gin"
)

// Limits of a request.
const (
	bodyLimit   = 1 << 20          // bytes
	HeaderLimit = 32 << 10         // bytes; for the http.Server that the handler is served by
	bodyWithin  = 30 * time.Second // from the first byte of a body to its last
	fileWithin  = 10 * time.Minute // likewise, of a file for a build machine
)

// requireValidText rejects requests whose path, query or headers contain
// control characters or text that is not UTF-8: the database cannot store them
// and a log should not show them.
func requireValidText(c *gin.Context) {
	bad := func(s string) bool { return !utf8.ValidString(s) || strings.ContainsFunc(s, unicode.IsControl) }
	if bad(c.Request.URL.Path) {
		abort(c, problem.MalformedRequest, "the path contains control characters, or is not UTF-8")
		return
	}
	for name, values := range c.Request.URL.Query() {
		for _, v := range values {
			if bad(name) || bad(v) {
				abort(c, problem.MalformedRequest, "the query contains control characters, or is not UTF-8")
				return
			}
		}
		if len(values) > 1 {
			abort(c, problem.MalformedRequest, "the query contains a parameter twice")
			return
		}
	}
	for name, values := range c.Request.Header {
		for _, v := range values {
			if bad(v) {
				abort(c, problem.MalformedRequest, "the header %s contains control characters, or is not UTF-8", name)
				return
			}
		}
	}
	c.Next()
}

// limitBody bounds the size of a request's body, and the time in which it has to come, by its operation.
func (s *Server) limitBody(c *gin.Context) {
	limit, within := int64(bodyLimit), s.bodyWithin
	if of, is := s.bodyLimits[c.Request.Method+" "+c.FullPath()]; is {
		limit = of
		if of > bodyLimit {
			within = fileWithin
		}
	}
	if w, is := c.Request.Context().Value(answerKey{}).(http.ResponseWriter); is && c.Request.ContentLength != 0 {
		// gin's writer does not pass a deadline on. The writer of a test has none.
		_ = http.NewResponseController(w).SetReadDeadline(time.Now().Add(within))
		c.Request.Body = hurry{c.Request.Body, w}
	}
	if c.Request.ContentLength > limit {
		abort(c, problem.TooLarge, "the request has %d bytes; the most is %d", c.Request.ContentLength, limit)
		return
	}
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, limit)
	c.Next()
}

// answerKey is the key of a request's context for the writer of the http.Server.
type answerKey struct{}

// hurry is a body that has to come within a time. Afterwards the connection
// has all the time that its answer takes.
type hurry struct {
	io.ReadCloser
	answer http.ResponseWriter
}

func (h hurry) Read(b []byte) (int, error) {
	n, err := h.ReadCloser.Read(b)
	switch {
	case errors.Is(err, io.EOF):
		_ = http.NewResponseController(h.answer).SetReadDeadline(time.Time{})
	case err != nil:
		h.answer.Header().Set("Connection", "close") // what is left of the body is not waited for
	}
	return n, err
}

func (s *Server) headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
		"frame-ancestors 'none'")
	if s.secure {
		h.Set("Strict-Transport-Security", "max-age=31536000")
	}
	if path := c.Request.URL.Path; strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/agent/") {
		h.Set("Cache-Control", "no-store")
	}
	c.Next()
}

// ServeHTTP answers a request, whose body has to come in time. HEAD is answered
// as GET without a body, which the http.Server leaves away.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodHead && r.URL.Path != eventsPath {
		r = r.Clone(r.Context())
		r.Method = http.MethodGet
	}
	s.handler.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), answerKey{}, w)))
}

// wrongMethod answers for a path that is there with other methods, which the Allow header names.
func wrongMethod(c *gin.Context) {
	allow := c.Writer.Header().Get("Allow")
	if strings.Contains(allow, http.MethodGet) {
		allow += ", HEAD"
	}
	allow += ", OPTIONS"
	c.Header("Allow", allow)
	if c.Request.Method == http.MethodOptions {
		c.Status(http.StatusNoContent)
		return
	}
	abort(c, problem.MethodNotAllowed, "%s does not accept %s: use %s", c.Request.URL.Path, c.Request.Method, allow)
}
