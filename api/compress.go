package api

import (
	"compress/gzip"
	"net/http"
	"strings"

	"github.com/CAFxX/httpcompression"
)

// compressedFrom is the size in bytes from which an answer is compressed.
const compressedFrom = 1 << 10

// compressed has an answer compressed with br or gzip, as the caller accepts it. Event streams are not, nor what is
// asked for with another method than GET: such answers may hold a secret beside text that an attacker chose, whose size
// would tell of the secret. Answers to agents are small and many.
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
