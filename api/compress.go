package api

import (
	"compress/gzip"
	"net/http"
	"strings"

	"github.com/CAFxX/httpcompression"
)

// compressedFrom is the size in bytes from which an answer is compressed.
const compressedFrom = 1 << 10

// compressed compresses responses with br or gzip, as the client accepts. It does not compress event streams,
// responses to agents, which are small and frequent, or responses to methods other than GET: those may contain a
// secret next to text that an attacker chose, and the compressed size would reveal the secret.
func compressed(next http.Handler) (http.Handler, error) {
	adapter, err := httpcompression.Adapter(
		httpcompression.BrotliCompressionLevel(4), httpcompression.GzipCompressionLevel(gzip.BestSpeed),
		httpcompression.MinSize(compressedFrom),
		httpcompression.ContentTypes([]string{"image/png", "application/octet-stream", "text/event-stream"}, true))
	if err != nil {
		return nil, err
	}
	within := adapter(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet || r.URL.Path == eventsPath || strings.HasPrefix(r.URL.Path, "/agent/") {
			next.ServeHTTP(w, r)
			return
		}
		within.ServeHTTP(w, r)
	}), nil
}
