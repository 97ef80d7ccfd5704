package repositories_test

import (
	"encoding/pem"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/role"
	"nimblepane/core/secret"
	"nimblepane/internal/servicetest"
	"nimblepane/store/storetest"
)

// TestMain has the certificate of test servers believed, as that of an organisation's own authority would be.
func TestMain(m *testing.M) {
	server := httptest.NewTLSServer(nil)
	server.Close()
	file := filepath.Join(os.TempDir(), "nimblepane-test-authority.pem")
	text := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw})
	if err := os.WriteFile(file, text, 0o600); err != nil {
		panic(err)
	}
	if err := os.Setenv("SSL_CERT_FILE", file); err != nil {
		panic(err)
	}
	storetest.Main(m)
}

func TestATokenIsShownOverHTTPSAndNeverSaid(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	for _, args := range [][]string{
		{"init", "--quiet", "--initial-branch", "main", folder},
		{
			"-C", folder, "-c", "user.name=Ida", "-c", "user.email=ida@ferries.example", "commit", "--quiet",
			"--allow-empty", "--message", "nothing yet",
		},
	} {
		out, err := exec.CommandContext(t.Context(), "git", args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	const token = "spring-tide-token"
	git := &cgi.Handler{Path: "/usr/lib/git-core/git-http-backend", Env: []string{
		"GIT_PROJECT_ROOT=" + folder, "GIT_HTTP_EXPORT_ALL=1",
	}}
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, password, _ := r.BasicAuth(); name != "reader" || password != token {
			w.Header().Set("WWW-Authenticate", "Basic")
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		git.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{
		Secrets: secret.In(func(string) (string, bool) { return "", false }, fstest.MapFS{
			"token": {Data: []byte(token + "\n")}, "old": {Data: []byte("neap-tide-token")},
		}),
	})
	ctx, c := t.Context(), s.As(role.Operator)
	in := client.NewRepository{
		Address: server.URL + "/.git", File: "desk.yaml", User: "reader", Password: &secret.Source{File: "old"},
	}
	until := func(why string) (kept client.WholeSheet) {
		s.Until("the repository to be looked at: "+why, func() bool {
			var err error
			kept, err = c.Sheet(ctx, "desk")
			require.NoError(t, err)
			return strings.Contains(kept.Repository.Why, why)
		})
		return kept
	}
	_, err := c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	until("wants a credential that may read it")
	in.Password.File = "token"
	_, err = c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept := until("has no file desk.yaml") // which it was let in to see
	require.Equal(t, "password", kept.Repository.Shows)
	var rows int
	require.NoError(t, s.Store.DB.Raw("select count(*) from repositories r where r::text like ?",
		"%"+token+"%").Scan(&rows).Error)
	require.Zero(t, rows)
}
