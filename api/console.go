package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"time"

	"nimblepane/core/problem"

	"github.com/danielgtaylor/huma/v2/negotiation"
	"github.com/gin-gonic/gin"
)

// assets are the console's files whose names change with their content.
const assets = "assets/"

// console serves the built console, if there is one: its files, and its page for every path that is a page of it.
func (s *Server) console(files fs.FS) {
	s.gin.NoRoute(func(c *gin.Context) {
		name := strings.TrimPrefix(c.Request.URL.Path, "/")
		if files == nil || strings.HasPrefix(name, "api/") || strings.HasPrefix(name, "agent/") ||
			c.Request.Method != http.MethodGet {
			if c.Request.Method == http.MethodOptions && files != nil {
				c.Header("Allow", "GET, HEAD, OPTIONS")
				c.Status(http.StatusNoContent)
				return
			}
			abort(c, problem.NotFound, "no operation %s %s; %s.json describes the API", c.Request.Method,
				c.Request.URL.Path, openAPIPath)
			return
		}
		if info, err := fs.Stat(files, name); err != nil || info.IsDir() {
			if strings.HasPrefix(name, assets) {
				// A page of another release requests the file. The page reloads when it gets 404.
				c.Header("Cache-Control", "no-store")
				abort(c, problem.NotFound, "this release of the console has no file %s", name)
				return
			}
			name = "index.html"
		}
		if strings.HasPrefix(name, assets) {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
		} else {
			c.Header("Cache-Control", "no-cache")
		}
		serveFile(c, files, name)
	})
}

// encodings maps each content coding of the console's build to its file extension.
var encodings = map[string]string{"br": ".br", "gzip": ".gz"}

// serveFile sends a file, in the best content coding that the client accepts and the build contains.
func serveFile(c *gin.Context, files fs.FS, name string) {
	content, err := fs.ReadFile(files, name)
	if err != nil {
		abort(c, problem.NotFound, "the console has no file %s", name)
		return
	}
	c.Header("Vary", "Accept-Encoding")
	tag := name // names of assets change with their content
	if !strings.HasPrefix(name, assets) {
		sum := sha256.Sum256(content)
		tag = hex.EncodeToString(sum[:8])
	}
	encoding := negotiation.SelectQValue(c.GetHeader("Accept-Encoding"), []string{"br", "gzip"})
	if packed, err := fs.ReadFile(files, name+encodings[encoding]); encoding != "" && err == nil {
		content, tag = packed, tag+"-"+encoding
		c.Header("Content-Encoding", encoding)
	}
	c.Header("ETag", `"`+tag+`"`)
	http.ServeContent(c.Writer, c.Request, path.Base(name), time.Time{}, bytes.NewReader(content))
}
