package subjects_test

import (
	"bytes"
	"crypto/ed25519"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
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
	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/core/secret"
	"nimblepane/internal/servicetest"
)

// repository is one on the disk, that somebody works on.
type repository struct {
	t   *testing.T
	dir string
}

func newRepository(t *testing.T) (folder string, r repository) {
	t.Helper()
	folder = t.TempDir()
	r = repository{t, filepath.Join(folder, "desks")}
	require.NoError(t, os.Mkdir(r.dir, 0o755))
	r.git("init", "--quiet", "--initial-branch", "main")
	return folder, r
}

func (r repository) git(args ...string) string {
	r.t.Helper()
	cmd := exec.CommandContext(r.t.Context(), "git", args...)
	cmd.Dir = r.dir
	cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Jonas Lock", "GIT_AUTHOR_EMAIL=jonas@ferries.example",
		"GIT_COMMITTER_NAME=Jonas Lock", "GIT_COMMITTER_EMAIL=jonas@ferries.example", "GIT_CONFIG_GLOBAL=/dev/null")
	out, err := cmd.CombinedOutput()
	require.NoError(r.t, err, "%s", out)
	return strings.TrimSpace(string(out))
}

// commit writes files, commits them and returns the commit.
func (r repository) commit(subject string, files map[string]string) string {
	r.t.Helper()
	for name, text := range files {
		require.NoError(r.t, os.MkdirAll(filepath.Dir(filepath.Join(r.dir, name)), 0o755))
		require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, name), []byte(text), 0o600))
	}
	r.git("add", "--all")
	r.git("commit", "--quiet", "--message", subject)
	return r.git("rev-parse", "HEAD")
}

func (r repository) address() string { return "file://" + r.dir }

const inRepository = "image: counter-desk\nbase: {disk: vendor.qcow2}\nmachine: {site: north-quay}\nsteps:\n" +
	"  - name: fonts\n    script: {file: fonts.sh}\n  - name: tides\n    put: {folder: tides, to: /etc/tides}\n"

func deskFiles(subject string) map[string]string {
	return map[string]string{
		"counter/desk.yaml": inRepository + "version: {notes: " + subject + "}\n",
		"counter/fonts.sh":  "#!/bin/sh\necho fonts\n", "counter/tides/north": "ebb\n", "README": "desks\n",
	}
}

// followed waits until a sheet's repository was looked at and it is as it should be.
func followed(t *testing.T, s *servicetest.Service, name, what string, is func(client.WholeSheet) bool) (
	sheet client.WholeSheet,
) {
	t.Helper()
	s.Until(what, func() bool {
		var err error
		sheet, err = s.As(role.Viewer).Sheet(t.Context(), name)
		require.NoError(t, err)
		return sheet.Repository != nil && sheet.Repository.LookedAt != nil && is(sheet)
	})
	return sheet
}

func at(commit string) func(client.WholeSheet) bool {
	return func(s client.WholeSheet) bool { return s.Commit == commit && s.Repository.Why == "" }
}

func TestASheetFollowsItsRepositoryAndItsBuildsAreOfCommits(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	one := repo.commit("the first desk", deskFiles("one"))
	s := servicetest.Start(t, servicetest.Options{Repositories: folder})
	ctx, c := t.Context(), s.As(role.Operator)
	in := client.NewRepository{Address: repo.address(), Folder: "counter", File: "desk.yaml"}
	_, err := c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept := followed(t, s, "desk", "the first commit", at(one))
	require.Equal(t, "counter-desk", kept.Image)
	require.Empty(t, kept.Wrong)
	require.Empty(t, kept.Missing)
	require.Equal(t, "commit "+kept.Commit[:12], kept.ChangedBy, "the author of a commit is no account")
	require.Len(t, kept.Files, 2)
	_, err = c.SaveSheet(ctx, "desk", kept.Revision, client.SheetText{Text: inRepository})
	require.ErrorIs(t, err, problem.WrongState)

	built, err := c.BuildSheet(ctx, "desk", client.BuildSheet{})
	require.NoError(t, err)
	require.Equal(t, one, built.Commit)
	_, err = c.AddSchedule(ctx, client.NewSchedule{Name: "desk", Sheet: "desk", Mode: schedule.OnChanges})
	require.NoError(t, err)

	// The branch moves while the build goes on, which has what it began with.
	two := repo.commit("new fonts, and notes", map[string]string{
		"counter/fonts.sh":  "#!/bin/sh\necho new fonts\n",
		"counter/desk.yaml": inRepository + "version: {notes-from-commits: true}\n",
	})
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	kept = followed(t, s, "desk", "the second commit", at(two))
	s.Until("the first build to be ready", func() bool {
		built, err = c.Build(ctx, built.ID)
		require.NoError(t, err)
		require.NotEqual(t, build.Failed, built.State, built.Why)
		return built.State == build.Ready
	})
	require.Equal(t, one, built.Commit)
	require.Contains(t, built.Sheet, "notes: one")
	runs := func(n int) []client.ScheduleRun {
		sc, err := c.Schedule(ctx, "desk")
		require.NoError(t, err)
		if len(sc.Runs) >= n {
			return sc.Runs
		}
		return nil
	}
	s.Until("the schedule to start a build of the second commit", func() bool { return runs(1) != nil })
	built, err = c.Build(ctx, runs(1)[0].Build)
	require.NoError(t, err)
	require.Equal(t, two, built.Commit)
	s.Until("the second build to be ready", func() bool {
		built, err = c.Build(ctx, built.ID)
		require.NoError(t, err)
		require.NotEqual(t, build.Failed, built.State, built.Why)
		return built.State == build.Ready
	})
	v, err := c.Version(ctx, "counter-desk", built.Version)
	require.NoError(t, err)
	require.Contains(t, v.Notes, "- new fonts, and notes")

	// A commit that changes nothing of the sheet is seen, and starts nothing.
	three := repo.commit("say hello", map[string]string{"README": "hello\n"})
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	revision := kept.Revision
	kept = followed(t, s, "desk", "the third commit", at(three))
	require.Equal(t, revision, kept.Revision)
	require.NoError(t, s.Subjects.Schedules.Follow(ctx))
	require.Len(t, runs(1), 1)

	// One that takes the sheet away is no failure of the network: nothing is built of what was before.
	repo.git("rm", "--quiet", "counter/desk.yaml")
	four := repo.commit("no desk any more", nil)
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	kept = followed(t, s, "desk", "it to be gone", func(s client.WholeSheet) bool { return s.Repository.Gone })
	require.Contains(t, kept.Repository.Why, fmt.Sprintf("commit %.12s has no file counter/desk.yaml", four))
	require.Equal(t, three, kept.Commit)
	_, err = c.BuildSheet(ctx, "desk", client.BuildSheet{})
	require.ErrorIs(t, err, problem.SourceFailed)
	today, err := c.Today(ctx)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(today), "Sheet desk cannot be taken from its repository")
	require.NoError(t, os.Rename(repo.dir, repo.dir+"-away"))
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	kept = followed(t, s, "desk", "it to be away", func(s client.WholeSheet) bool {
		return strings.Contains(s.Repository.Why, "there is no repository")
	})
	require.True(t, kept.Repository.Gone, "nobody knows that it is there again")
	require.NoError(t, os.Rename(repo.dir+"-away", repo.dir))
	five := repo.commit("a desk again", deskFiles("five"))
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	followed(t, s, "desk", "it to be there again", at(five))

	// A repository that is away for a while keeps nobody from what was seen.
	require.NoError(t, os.Rename(repo.dir, repo.dir+"-away"))
	require.NoError(t, c.LookAtRepository(ctx, "desk"))
	kept = followed(t, s, "desk", "it to be away", func(s client.WholeSheet) bool { return s.Repository.Why != "" })
	require.Contains(t, kept.Repository.Why, "there is no repository at that address")
	require.False(t, kept.Repository.Gone)
	built, err = c.BuildSheet(ctx, "desk", client.BuildSheet{})
	require.NoError(t, err)
	require.Equal(t, five, built.Commit)
	require.NoError(t, c.UnfollowRepository(ctx, "desk"))
	kept, err = c.Sheet(ctx, "desk")
	require.NoError(t, err)
	require.Nil(t, kept.Repository)
	_, err = c.SaveSheet(ctx, "desk", kept.Revision, client.SheetText{Text: inRepository})
	require.NoError(t, err)
}

func TestTagsAndCommitsStayAndASheetOfAnotherImageIsNotTaken(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	one := repo.commit("one", deskFiles("one"))
	repo.git("tag", "plain")
	repo.git("tag", "--annotate", "--message", "the first", "spring")
	two := repo.commit("two", deskFiles("two"))
	repo.commit("three", map[string]string{"counter/desk.yaml": strings.Replace(inRepository, "counter-desk",
		"chart-desk", 1)})
	s := servicetest.Start(t, servicetest.Options{Repositories: folder})
	ctx, c := t.Context(), s.As(role.Operator)
	for name, in := range map[string]client.NewRepository{
		"by-tag": {Tag: "plain"}, "by-annotated-tag": {Tag: "spring"}, "by-commit": {Commit: one},
	} {
		in.Address, in.Folder, in.File = repo.address(), "counter", "desk.yaml"
		_, err := c.FollowRepository(ctx, name, in)
		require.NoError(t, err)
		followed(t, s, name, name, at(one))
	}
	// Somebody has it follow something else, and what was seen of the one before counts no more.
	_, err := c.FollowRepository(ctx, "by-tag", client.NewRepository{
		Address: repo.address(), Folder: "counter", File: "desk.yaml", Commit: two,
	})
	require.NoError(t, err)
	followed(t, s, "by-tag", "the second", at(two))
	_, err = c.FollowRepository(ctx, "by-tag", client.NewRepository{
		Address: repo.address(), Folder: "counter", File: "desk.yaml", Branch: "main",
	})
	require.NoError(t, err)
	kept := followed(t, s, "by-tag", "what is not its", func(s client.WholeSheet) bool { return s.Repository.Gone })
	require.Contains(t, kept.Repository.Why, `makes it a sheet of image "chart-desk", and it is kept as one of `+
		"counter-desk")
	require.Equal(t, two, kept.Commit)
	_, err = c.FollowRepository(ctx, "by-tag", client.NewRepository{
		Address: repo.address(), File: "desk.yaml", Branch: "summer",
	})
	require.NoError(t, err)
	kept = followed(t, s, "by-tag", "a branch that there is not", func(s client.WholeSheet) bool {
		return strings.Contains(s.Repository.Why, "no branch summer")
	})
	require.True(t, kept.Repository.Gone)
}

func TestACommitIsNotTakenWithoutAFileThatCouldNotBeStored(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	commit := repo.commit("desk", deskFiles("first"))
	s := servicetest.Start(t, servicetest.Options{Repositories: folder})
	c := s.As(role.Operator)
	storage := func(change string) {
		t.Helper()
		require.NoError(t, s.Store.DB.Exec("alter table sheet_files "+change).Error)
	}
	storage("add constraint fails check (size < 0) not valid")
	_, err := c.FollowRepository(t.Context(), "desk", client.NewRepository{
		Address: repo.address(), Folder: "counter", File: "desk.yaml",
	})
	require.NoError(t, err)
	kept := followed(t, s, "desk", "the failure", func(s client.WholeSheet) bool { return s.Repository.Why != "" })
	require.Empty(t, kept.Commit)
	require.Contains(t, kept.Repository.Why, "fonts.sh of commit")
	require.NotContains(t, kept.Repository.Why, "SQLSTATE")
	storage("drop constraint fails")
	require.NoError(t, c.LookAtRepository(t.Context(), "desk"))
	kept = followed(t, s, "desk", "the commit", at(commit))
	require.Len(t, kept.Files, 2)
}

func TestWhatARepositoryNamesStaysInIt(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "secret"), []byte("#!/bin/sh\nsecret\n"), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(repo.dir, "counter"), 0o755))
	require.NoError(t, os.Symlink("../../../secret", filepath.Join(repo.dir, "counter/fonts.sh")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(repo.dir, "counter/tides")))
	require.NoError(t, os.Symlink("/etc", filepath.Join(repo.dir, "outside")))
	repo.commit("links", map[string]string{"counter/desk.yaml": inRepository})
	s := servicetest.Start(t, servicetest.Options{Repositories: folder})
	ctx, c := t.Context(), s.As(role.Operator)
	in := client.NewRepository{Address: repo.address(), Folder: "counter", File: "desk.yaml"}
	_, err := c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept := followed(t, s, "desk", "the links", func(s client.WholeSheet) bool { return s.Commit != "" })
	require.Len(t, kept.Missing, 2)
	require.Empty(t, kept.Files)
	in.Folder, in.File = "outside", "hostname"
	_, err = c.FollowRepository(ctx, "out", in)
	require.NoError(t, err)
	kept = followed(t, s, "out", "the folder", func(s client.WholeSheet) bool { return s.Repository.Why != "" })
	require.Contains(t, kept.Repository.Why, "has no folder outside")

	in = client.NewRepository{Address: repo.address(), File: "desk.yaml"}
	for why, change := range map[string]func(*client.NewRepository){
		"is outside the folder of repositories": func(in *client.NewRepository) { in.Address = "file:///etc" },
		"is no address of a repository":         func(in *client.NewRepository) { in.Address = repo.dir },
		"is no address of a repository:":        func(in *client.NewRepository) { in.Address = "ftp://a/b" },
		"contains a password":                   func(in *client.NewRepository) { in.Address = "https://a:b@c/d" },
		"contains a user":                       func(in *client.NewRepository) { in.Address = "https://a@c/d" },
		"give a branch, a tag or a commit":      func(in *client.NewRepository) { in.Branch, in.Tag = "a", "b" },
		"write all 40 hexadecimal":              func(in *client.NewRepository) { in.Commit = "abc" },
		"not the name of a branch":              func(in *client.NewRepository) { in.Branch = "a..b" },
		"is not a file of a repository":         func(in *client.NewRepository) { in.File = "../desk.yaml" },
		"cannot be read every 1s":               func(in *client.NewRepository) { in.Every = 1 },
		"needs a private key": func(in *client.NewRepository) {
			in.Address = "ssh://git@git.example/desks"
		},
		"the password: the service has no folder of secrets": func(in *client.NewRepository) {
			in.Address, in.Password = "https://git.example/desks", &secret.Source{File: "token"}
		},
	} {
		wrong := in
		change(&wrong)
		_, err := c.FollowRepository(ctx, "wrong", wrong)
		require.ErrorContains(t, err, strings.TrimSuffix(why, ":"))
	}
	_, err = c.Sheet(ctx, "wrong")
	require.True(t, client.IsStatus(err, http.StatusNotFound))
}

func TestARepositoryIsReadOverHTTPWithItsTokenAndAnnouncesItsPushes(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	one := repo.commit("one", deskFiles("one"))
	git := &cgi.Handler{Path: "/usr/lib/git-core/git-http-backend", Env: []string{
		"GIT_PROJECT_ROOT=" + folder, "GIT_HTTP_EXPORT_ALL=1",
	}}
	token := strings.Repeat("tide", 4)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/closed/") {
			if _, password, _ := r.BasicAuth(); password != token {
				w.Header().Set("WWW-Authenticate", "Basic")
				w.WriteHeader(http.StatusUnauthorized)
				return
			}
			r.URL.Path = strings.TrimPrefix(r.URL.Path, "/closed")
		}
		git.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{
		Secrets: secret.In(func(string) (string, bool) { return "", false }, fstest.MapFS{
			"hook": {Data: []byte("a secret of announcements")},
		}),
	})
	ctx, c := t.Context(), s.As(role.Operator)
	in := client.NewRepository{
		Address: server.URL + "/desks/.git", Branch: "main", Folder: "counter", File: "desk.yaml", Every: 604800,
		Announced: &secret.Source{File: "hook"},
	}
	_, err := c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept := followed(t, s, "desk", "the first commit", at(one))
	require.True(t, kept.Repository.Announced)

	announce := func(name, key, header string) int {
		body := `{"ref": "refs/heads/main"}`
		mac := hmac.New(sha256.New, []byte(key))
		mac.Write([]byte(body))
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, s.URL+"/api/v1/announcements/"+name,
			strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Content-Type", "application/json")
		r.Header.Set(header, "sha256="+hex.EncodeToString(mac.Sum(nil)))
		answer, err := http.DefaultClient.Do(r)
		require.NoError(t, err)
		defer answer.Body.Close()
		return answer.StatusCode
	}
	two := repo.commit("two", deskFiles("two"))
	require.Equal(t, http.StatusForbidden, announce("desk", "another", "X-Hub-Signature-256"))
	require.Equal(t, http.StatusForbidden, announce("none", "a secret of announcements", "X-Hub-Signature-256"))
	require.Equal(t, http.StatusAccepted, announce("desk", "a secret of announcements", "X-Hub-Signature-256"))
	followed(t, s, "desk", "the second commit", at(two))
	three := repo.commit("three", deskFiles("three"))
	require.Equal(t, http.StatusAccepted, announce("desk", "a secret of announcements", "X-Hub-Signature"))
	followed(t, s, "desk", "the third commit", at(three))

	in.Address, in.Announced = server.URL+"/closed/desks/.git", nil
	_, err = c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept = followed(t, s, "desk", "it to be closed", func(s client.WholeSheet) bool { return s.Repository.Why != "" })
	require.Contains(t, kept.Repository.Why, "the repository wants a credential that may read it")
	in.Password = &secret.Source{File: "token"}
	_, err = c.FollowRepository(ctx, "desk", in)
	require.ErrorIs(t, err, problem.InvalidRequest)

	// What listens on the service's own computer is asked only with leave.
	s = servicetest.Start(t, servicetest.Options{FetchElsewhere: true})
	in.Address, in.Password = server.URL+"/desks/.git", nil
	_, err = s.As(role.Operator).FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept = followed(t, s, "desk", "a refusal", func(s client.WholeSheet) bool { return s.Repository.Why != "" })
	require.Contains(t, kept.Repository.Why, "not asked without leave")
}

func TestALargeFileOfACommitIsKeptPieceByPiece(t *testing.T) {
	t.Parallel()
	folder, repo := newRepository(t)
	large := make([]byte, 24<<20)
	_, _ = rand.Read(large)
	require.NoError(t, os.WriteFile(filepath.Join(repo.dir, "fares.db"), large, 0o600))
	one := repo.commit("fares", map[string]string{"desk.yaml": "image: counter-desk\nbase: {disk: vendor.qcow2}\n" +
		"machine: {site: north-quay}\nsteps:\n  - {name: fares, put: {file: fares.db, to: /var/lib/fares.db}}\n"})
	s := servicetest.Start(t, servicetest.Options{Repositories: folder})
	_, err := s.As(role.Operator).FollowRepository(t.Context(), "desk", client.NewRepository{
		Address: repo.address(), File: "desk.yaml",
	})
	require.NoError(t, err)
	kept := followed(t, s, "desk", "the commit", at(one))
	require.Equal(t, sum(large), kept.Files["fares.db"])
	require.Empty(t, kept.Missing)
	left, err := os.ReadDir(s.Engine.Bases)
	require.NoError(t, err)
	require.Empty(t, left, "what was fetched is gone")
}

func TestARepositoryIsReadOverSSHFromTheHostThatIsKnown(t *testing.T) {
	t.Parallel()
	_, repo := newRepository(t)
	one := repo.commit("one", deskFiles("one"))
	_, hostKey := keyPair(t)
	visitor, mine := keyPair(t)
	address := sshServer(t, hostKey, visitor.PublicKey())
	private := pem.EncodeToMemory(must(ssh.MarshalPrivateKey(mine, "")))
	known := knownhosts.Line([]string{address}, must(ssh.NewPublicKey(hostKey.Public())))
	_, otherKey := keyPair(t)
	other := knownhosts.Line([]string{address}, must(ssh.NewPublicKey(otherKey.Public())))
	s := servicetest.Start(t, servicetest.Options{
		Secrets: secret.In(func(string) (string, bool) { return "", false }, fstest.MapFS{
			"key": {Data: private}, "known": {Data: []byte(known)}, "other": {Data: []byte(other)},
		}),
	})
	ctx, c := t.Context(), s.As(role.Operator)
	in := client.NewRepository{
		Address: "ssh://git@" + address + repo.dir, Folder: "counter", File: "desk.yaml",
		Key: &secret.Source{File: "key"}, KnownHosts: &secret.Source{File: "other"},
	}
	_, err := c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept := followed(t, s, "desk", "a host that is not known", func(s client.WholeSheet) bool {
		return s.Repository.Why != ""
	})
	require.Contains(t, kept.Repository.Why, "key mismatch")
	in.KnownHosts.File = "known"
	_, err = c.FollowRepository(ctx, "desk", in)
	require.NoError(t, err)
	kept = followed(t, s, "desk", "the commit", at(one))
	require.Equal(t, "key", kept.Repository.Shows)
	require.NotContains(t, fmt.Sprint(kept), "PRIVATE")
}

func must[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func keyPair(t *testing.T) (ssh.Signer, ed25519.PrivateKey) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	signer, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return signer, key
}

// sshServer lets one key read repositories, by git's own program.
func sshServer(t *testing.T, hostKey ed25519.PrivateKey, visitor ssh.PublicKey) (address string) {
	t.Helper()
	config := &ssh.ServerConfig{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions,
		error,
	) {
		if !bytes.Equal(key.Marshal(), visitor.Marshal()) {
			return nil, errors.New("nobody knows this key")
		}
		return nil, nil
	}}
	config.AddHostKey(must(ssh.NewSignerFromKey(hostKey)))
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go serveSSH(conn, config)
		}
	}()
	return listener.Addr().String()
}

func serveSSH(conn net.Conn, config *ssh.ServerConfig) {
	_, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for newChannel := range channels {
		channel, requests, err := newChannel.Accept()
		if err != nil {
			return
		}
		go func() {
			defer channel.Close()
			for r := range requests {
				if r.Type != "exec" {
					_ = r.Reply(r.Type == "env", nil)
					continue
				}
				_ = r.Reply(true, nil)
				line := string(r.Payload[4:])
				cmd := exec.Command("sh", "-c", line)
				cmd.Stdin, cmd.Stdout, cmd.Stderr = channel, channel, channel.Stderr()
				status := uint32(0)
				if cmd.Run() != nil {
					status = 1
				}
				_, _ = channel.SendRequest("exit-status", false, binary.BigEndian.AppendUint32(nil, status))
				return
			}
		}()
	}
}
