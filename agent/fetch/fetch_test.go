package fetch

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFileIsThereOnceItsDigestWasChecked(t *testing.T) {
	t.Parallel()
	const digest = "d8b8c0aaa2d5d35c13fec8ca6e7d5e1b9d90a5b45ad6e2e0a5ba43e1a8d1ed75"
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/tables":
			_, _ = w.Write([]byte("high water 06:12\n"))
		case "/cut":
			w.Header().Set("Content-Length", strconv.Itoa(100))
			_, _ = w.Write([]byte("high"))
		default:
			http.NotFound(w, r)
		}
	}))
	defer site.Close()
	folder := t.TempDir()
	path := filepath.Join(folder, "tables")
	fails := func(address, want string) {
		t.Helper()
		require.ErrorContains(t, File(t.Context(), site.URL+address, digest, path), want)
	}
	fails("/none", "answered 404 Not Found: see that the file is there")
	fails("/cut", "unexpected EOF")
	require.ErrorContains(t, File(t.Context(), "ftp://x/y", digest, path), "unsupported protocol scheme")
	fails("/tables", "and not "+digest)
	left, err := os.ReadDir(folder)
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left of what failed")

	const right = "0469047697444ae4be44eff0b532ef30756e584273747ee7c674617f2cfaf6c9"
	require.NoError(t, File(t.Context(), site.URL+"/tables", right, path))
	content, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, "high water 06:12\n", string(content))
	fails("/tables", "and not "+digest)
	require.FileExists(t, path, "what was there stays")
}
