package api

import (
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"nimblepane/core/problem"
	"nimblepane/engine"
)

type etagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func etag(revision int) string { return `"` + strconv.Itoa(revision) + `"` }

// IfMatch is the precondition of a change (RFC 9110, section 13.1.1).
type IfMatch struct {
	Header string `header:"If-Match" doc:"ETag of the record as it was read, several of them, or * for any"`
}

// etags are the members of a list of entity tags (RFC 9110, section 8.8.3).
var etags = regexp.MustCompile(`^[ \t]*(W/)?"([\x21\x23-\x7e]*)"[ \t]*(,|$)`)

// revisions returns the revisions that the header allows. A weak tag never matches: the comparison is the strong one.
func (m IfMatch) revisions() (r engine.Revisions, err error) {
	if m.Header == "" {
		return r, problem.PreconditionRequired.Errorf(`send If-Match with the ETag of the object that you read, such as "3"`)
	}
	if strings.TrimSpace(m.Header) == "*" {
		return engine.Revisions{Any: true}, nil
	}
	list, ok := tagsIn(m.Header)
	if !ok {
		return r, problem.MalformedRequest.Errorf(`If-Match is not a list of ETags: write "3", a list such as "3", "4", or *`)
	}
	for _, tag := range list {
		if n, err := strconv.Atoi(tag.opaque); err == nil && !tag.weak {
			r.Of = append(r.Of, n)
		}
	}
	return r, nil
}

type entityTag struct {
	weak   bool
	opaque string
}

// tagsIn parses a list of entity tags.
func tagsIn(header string) (list []entityTag, ok bool) {
	for header != "" {
		m := etags.FindStringSubmatch(header)
		if m == nil {
			return nil, false
		}
		list = append(list, entityTag{weak: m[1] != "", opaque: m[2]})
		header = header[len(m[0]):]
	}
	return list, true
}

// unchanged responds to a GET with 304 if the client has the current representation (RFC 9110, section 13.1.2).
func unchanged(c *gin.Context) {
	if known := c.GetHeader("If-None-Match"); known != "" && c.Request.Method == http.MethodGet {
		c.Writer = &unlessKnown{ResponseWriter: c.Writer, known: known}
	}
	c.Next()
}

// unlessKnown omits the body of a response whose ETag the client sent.
type unlessKnown struct {
	gin.ResponseWriter
	known   string
	decided bool
	same    bool
}

func (w *unlessKnown) Write(b []byte) (int, error) {
	if !w.decided {
		w.decided = true
		w.same = w.Status() == http.StatusOK && matches(w.known, w.Header().Get("ETag"))
		if w.same {
			w.Header().Del("Content-Type")
			w.WriteHeader(http.StatusNotModified)
			w.WriteHeaderNow()
		}
	}
	if w.same {
		return len(b), nil
	}
	return w.ResponseWriter.Write(b)
}

func (w *unlessKnown) WriteString(s string) (int, error) { return w.Write([]byte(s)) }

// matches compares an ETag with a list of them as If-None-Match does: weak and strong tags alike.
func matches(list, etag string) bool {
	if etag == "" {
		return false
	}
	if strings.TrimSpace(list) == "*" {
		return true
	}
	tags, _ := tagsIn(list)
	return slices.ContainsFunc(tags, func(t entityTag) bool { return `"`+t.opaque+`"` == etag })
}
