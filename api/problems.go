package api

import (
	"bytes"
	"html/template"
	"net/http"

	"github.com/gin-gonic/gin"

	"nimblepane/core/problem"
)

var problemsPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en">
<meta charset="utf-8">
<meta name="viewport" content="width=device-width">
<title>Nimble Pane: problem types</title>
<style>
body { font: 1rem/1.5 sans-serif; max-width: 45rem; margin: 2rem auto; padding: 0 1rem; color-scheme: light dark }
dt { font-weight: bold; margin-top: 1rem }
</style>
{{- if eq (len .) 1}}
{{- range .}}
<h1>{{.Title}}</h1>
<p>Problem type <code>{{.Type.URI}}</code>, HTTP status {{.Status}}</p>
<h2>Meaning</h2>
<p>{{.Meaning}}</p>
<h2>Remedy</h2>
<p>{{.Remedy}}</p>
<p><a href="/problems/">All problem types</a></p>
{{- end}}
{{- else}}
<h1>Problem types</h1>
<dl>
{{- range .}}
<dt><a href="{{.Type.URI}}">{{.Type}}</a> ({{.Status}})</dt>
<dd>{{.Meaning}}</dd>
{{- end}}
</dl>
{{- end}}
</html>
`))

// problems serves a page for each problem type, under its URI, and a list of them.
func (s *Server) problems() {
	page := func(c *gin.Context, entries []problem.Entry) {
		var out bytes.Buffer
		if err := problemsPage.Execute(&out, entries); err != nil {
			s.log.Error("the page of a problem type failed", "err", err)
			abort(c, problem.Internal, failed)
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", out.Bytes())
	}
	s.gin.GET(problem.Prefix, func(c *gin.Context) { page(c, problem.All) })
	s.gin.GET(problem.Prefix+":name", func(c *gin.Context) {
		t, known := problem.FromURI(c.Request.URL.Path)
		if !known {
			abort(c, problem.NotFound, "problem type %q does not exist; %s lists all", c.Param("name"), problem.Prefix)
			return
		}
		page(c, []problem.Entry{t.Entry()})
	})
}
