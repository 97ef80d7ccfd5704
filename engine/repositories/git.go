package repositories

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/client"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/memory"
	"golang.org/x/net/proxy"

	"nimblepane/core/problem"
	"nimblepane/engine"
	"nimblepane/store"
)

// gone is why what is in a repository now is no sheet that may be built: looking again cannot mend it, a commit can.
type gone struct{ why string }

func (g *gone) Error() string { return g.why }

func gonef(format string, args ...any) error { return &gone{fmt.Sprintf(format, args...)} }

// leave is the key of what a context says about asking this computer.
type leave struct{}

// What a server may send at most, in bytes. The list of references is in memory as a whole.
const (
	mostReferences = 16 << 20
	mostPack       = 4 << 30
)

// transports has git's HTTP and SSH go through the dialer that asks this computer only with leave, and limits what a
// server sends. It is one for the process: that is how the protocols are known. Whose leave it is comes with each
// request; over SSH, with the name of a proxy that stands for the dialer.
var transports = sync.OnceFunc(func() {
	c := engine.NewExternalClient(true, patience)
	c.Transport.(*http.Transport).DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
		here, _ := ctx.Value(leave{}).(bool)
		return engine.Dialer{Here: here}.DialContext(ctx, network, address)
	}
	c.Transport = limitedAnswers{c.Transport}
	client.InstallProtocol("http", githttp.NewClient(c))
	client.InstallProtocol("https", githttp.NewClient(c))
	for scheme, here := range dialers {
		proxy.RegisterDialerType(scheme, func(*url.URL, proxy.Dialer) (proxy.Dialer, error) {
			return limitedDialer{engine.Dialer{Here: here}}, nil
		})
	}
})

// dialers are the names under which SSH finds the dialer, without and with leave.
var dialers = map[string]bool{"nimblepane-outside": false, "nimblepane-anywhere": true}

// through is the proxy that a repository is asked through: none but over SSH, whose library has no other way to be
// given a dialer.
func (rs *Repositories) through(r store.Repository) transport.ProxyOptions {
	if end, err := transport.NewEndpoint(r.Address); err != nil || end.Protocol != "ssh" {
		return transport.ProxyOptions{}
	}
	if rs.engine.FetchFromHere {
		return transport.ProxyOptions{URL: "nimblepane-anywhere://dialer"}
	}
	return transport.ProxyOptions{URL: "nimblepane-outside://dialer"}
}

// errTooMuch is why what a server sends is not read to its end.
var errTooMuch = errors.New("the repository sends more than the service takes")

// limitedAnswers limits the bodies of answers.
type limitedAnswers struct{ http.RoundTripper }

func (l limitedAnswers) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := l.RoundTripper.RoundTrip(r)
	if err == nil {
		most := int64(mostPack)
		if r.Method == http.MethodGet {
			most = mostReferences
		}
		answer.Body = &limitedBody{ReadCloser: answer.Body, left: most}
	}
	return answer, err
}

type limitedBody struct {
	io.ReadCloser
	left int64
}

func (l *limitedBody) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooMuch
	}
	n, err := l.ReadCloser.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

// limitedDialer limits the bytes received over its connections.
type limitedDialer struct{ engine.Dialer }

func (d limitedDialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := d.Dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	return &limitedConn{Conn: conn, left: mostOverSSH}, nil
}

// mostOverSSH is what a server may send over a connection of SSH, on which references and packs cannot be told apart.
const mostOverSSH = 256 << 20

type limitedConn struct {
	net.Conn
	left int64
}

func (l *limitedConn) Read(b []byte) (int, error) {
	if l.left <= 0 {
		return 0, errTooMuch
	}
	n, err := l.Conn.Read(b[:min(int64(len(b)), l.left)])
	l.left -= int64(n)
	return n, err
}

var (
	commitForm = regexp.MustCompile(`^[0-9a-f]{40}$`)
	refForm    = regexp.MustCompile(`^[\pL\pN_.+/@-]+$`)
)

// checkAddress refuses an address that is none of a repository, or not one that the service may ask.
func (rs *Repositories) checkAddress(r store.Repository) error {
	end, err := transport.NewEndpoint(r.Address)
	wrong := "%q is no address of a repository: write https://HOST/PATH, ssh://USER@HOST/PATH or file:///PATH"
	if err != nil || strings.ContainsAny(r.Address, "\n\x00") {
		return problem.InvalidRequest.Errorf(wrong, r.Address)
	}
	if end.Password != "" {
		return problem.InvalidRequest.Errorf("the address contains a password, which everyone could read: omit it, " +
			"and give the secret that contains it")
	}
	c := r.Credential.V
	switch end.Protocol {
	case "https", "http":
		switch {
		case end.User != "":
			return problem.InvalidRequest.Errorf("the address contains a user: omit it, and give the user separately")
		case c.Key != nil || c.KnownHosts != nil:
			return problem.InvalidRequest.Errorf("a private key and known hosts are for SSH: %s takes a password or "+
				"a token",
				end.Protocol)
		case end.Protocol == "http" && c.Password != nil:
			return problem.InvalidRequest.Errorf("http:// would send the password unencrypted: use https://")
		case c.User != "" && c.Password == nil:
			return problem.InvalidRequest.Errorf("a user needs a password: give the secret that contains it")
		}
	case "ssh":
		switch {
		case c.Password != nil:
			return problem.InvalidRequest.Errorf("SSH takes a private key, not a password: give the secret that " +
				"contains it")
		case c.Key == nil || c.KnownHosts == nil:
			return problem.InvalidRequest.Errorf("SSH needs a private key and known hosts: give the secrets that " +
				"contain them")
		}
	case "file":
		if !strings.HasPrefix(r.Address, "file:///") {
			return problem.InvalidRequest.Errorf(wrong, r.Address)
		}
		if c != (store.Credential{}) {
			return problem.InvalidRequest.Errorf("a repository in a folder takes no credential: omit it")
		}
		_, err := rs.local(r.Address)
		return err
	default:
		return problem.InvalidRequest.Errorf(wrong, r.Address)
	}
	return nil
}

// local is the folder of a repository on this computer, which has to be in that of the service's repositories.
func (rs *Repositories) local(address string) (string, error) {
	if rs.engine.Repositories == "" {
		return "", problem.NotConfigured.Errorf("this service reads no repositories from local folders: start it " +
			"with --repositories FOLDER")
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", problem.InvalidRequest.Errorf("%q is not an address: write file:/// and the path of a folder",
			address)
	}
	within, err := filepath.EvalSymlinks(rs.engine.Repositories)
	if err != nil {
		return "", fmt.Errorf("look at the folder of repositories: %w", err)
	}
	path, err := filepath.EvalSymlinks(filepath.Clean(u.Path))
	if errors.Is(err, fs.ErrNotExist) {
		path, err = filepath.Clean(u.Path), nil // it may come; when it is there, it is looked at again
	}
	if err != nil {
		return "", problem.InvalidRequest.Errorf("%s cannot be read: %s", u.Path, err)
	}
	if in, err := filepath.Rel(within, path); err != nil || in == ".." || strings.HasPrefix(in, "../") {
		return "", problem.InvalidRequest.Errorf("%s is outside the folder of repositories that the service may "+
			"read (%s)", u.Path,
			within)
	}
	return path, nil
}

// auth is what is shown to a repository.
func (rs *Repositories) auth(r store.Repository, dir string) (transport.AuthMethod, error) {
	end, err := transport.NewEndpoint(r.Address)
	if err != nil {
		return nil, err
	}
	c := r.Credential.V
	switch {
	case end.Protocol == "ssh":
		key, err := rs.engine.Secrets(*c.Key)
		if err != nil {
			return nil, fmt.Errorf("its key: %w", err)
		}
		hosts, err := rs.engine.Secrets(*c.KnownHosts)
		if err != nil {
			return nil, fmt.Errorf("its known hosts: %w", err)
		}
		user := c.User
		if user == "" {
			user = end.User
		}
		a, err := gitssh.NewPublicKeys(user, []byte(key+"\n"), "")
		if err != nil {
			return nil, fmt.Errorf("its key is none without a passphrase, in the form of OpenSSH or PEM: %w", err)
		}
		file := filepath.Join(dir, "known-hosts")
		if err := os.WriteFile(file, []byte(hosts+"\n"), 0o600); err != nil {
			return nil, err
		}
		a.HostKeyCallback, err = gitssh.NewKnownHostsCallback(file)
		if err != nil {
			return nil, fmt.Errorf("its known hosts: %w", err)
		}
		return a, nil
	case c.Password != nil:
		password, err := rs.engine.Secrets(*c.Password)
		if err != nil {
			return nil, fmt.Errorf("its password: %w", err)
		}
		user := c.User
		if user == "" {
			user = "git" // a token says who it is
		}
		return &githttp.BasicAuth{Username: user, Password: password}, nil
	}
	return nil, nil
}

// tip is the commit that is followed in a repository now.
func (rs *Repositories) tip(ctx context.Context, r store.Repository, auth transport.AuthMethod) (string, error) {
	if r.Commit != "" {
		return r.Commit, nil
	}
	remote := git.NewRemote(memory.NewStorage(), &config.RemoteConfig{Name: "origin", URLs: []string{r.Address}})
	refs, err := remote.ListContext(ctx, &git.ListOptions{
		Auth: auth, PeelingOption: git.AppendPeeled, ProxyOptions: rs.through(r),
	})
	if err != nil {
		return "", inWords(err)
	}
	at := map[string]*plumbing.Reference{}
	for _, ref := range refs {
		at[ref.Name().String()] = ref
	}
	for _, name := range r.Refs() {
		ref := at[name]
		if ref != nil && ref.Type() == plumbing.SymbolicReference {
			ref = at[ref.Target().String()]
		}
		if ref != nil {
			return ref.Hash().String(), nil
		}
	}
	return "", gonef("the repository has no %s", r.Of())
}

// fetched is a pack file as a server has sent it. It is opened in the sandbox only.
type fetched struct {
	file string
	tip  plumbing.Hash // the commit that is followed, or a tag of it
}

// fetch brings a pack with the commit that is followed to a file, with so many commits before it.
func (rs *Repositories) fetch(ctx context.Context, r store.Repository, auth transport.AuthMethod, file string,
	depth int,
) (fetched, error) {
	return bounded(ctx, rs, r, atMost, func(ctx context.Context) (fetched, error) {
		return rs.fetchTo(ctx, r, auth, file, depth)
	})
}

// packStorage keeps references in memory, and a pack as it comes in a file.
type packStorage struct {
	*memory.Storage
	file string
	room func() error
}

// PackfileWriter is storer.PackfileWriter's.
func (s packStorage) PackfileWriter() (io.WriteCloser, error) {
	f, err := os.OpenFile(s.file, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	return &packWriter{File: f, room: s.room}, err
}

// packWriter refuses to fill the file system.
type packWriter struct {
	*os.File
	size, looked int64
	room         func() error
}

func (w *packWriter) Write(b []byte) (int, error) {
	const lookEvery = 16 << 20
	if w.size += int64(len(b)); w.size > mostPack {
		return 0, errTooMuch
	}
	if w.size-w.looked >= lookEvery {
		if err := w.room(); err != nil {
			return 0, err
		}
		w.looked = w.size
	}
	return w.File.Write(b)
}

// fetchTo is fetch, which may hang.
func (rs *Repositories) fetchTo(ctx context.Context, r store.Repository, auth transport.AuthMethod, file string,
	depth int,
) (p fetched, err error) {
	kept := packStorage{memory.NewStorage(), file, rs.engine.CheckRoom}
	remote := git.NewRemote(kept, &config.RemoteConfig{Name: "origin", URLs: []string{r.Address}})
	const seen = "refs/heads/seen"
	from := "HEAD"
	switch {
	case r.Branch != "":
		from = "refs/heads/" + r.Branch
	case r.Tag != "":
		from = "refs/tags/" + r.Tag
	case r.Commit != "":
		from = r.Commit
	}
	fetch := func(depth int, specs ...config.RefSpec) error {
		return remote.FetchContext(ctx, &git.FetchOptions{
			RefSpecs: specs, Depth: depth, Auth: auth, Tags: git.NoTags, Force: true, ProxyOptions: rs.through(r),
		})
	}
	err = fetch(depth, config.RefSpec(from+":"+seen))
	if r.Commit != "" && err != nil && ctx.Err() == nil {
		// Not every server gives one commit that no branch or tag ends with: then it is looked for in all of them.
		err = fetch(0, "+refs/heads/*:refs/remotes/*", "+refs/tags/*:refs/tags/*")
		return fetched{file, plumbing.NewHash(r.Commit)}, inWords(err)
	}
	if err != nil {
		return p, inWords(err)
	}
	is, err := kept.Reference(seen)
	if err != nil {
		return p, gonef("the repository has no %s", r.Of())
	}
	return fetched{file, is.Hash()}, nil
}

// inWords says what is wrong with a repository as somebody can act on.
func inWords(err error) error {
	var none git.NoMatchingRefSpecError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, engine.ErrForbidden):
		return engine.ErrForbidden
	case errors.Is(err, errTooMuch):
		return gonef("%s", errTooMuch)
	case errors.As(err, &none):
		return gonef("the repository has no such branch or tag any more")
	case errors.Is(err, transport.ErrRepositoryNotFound):
		return errors.New("there is no repository at that address, or none that the service may see")
	case errors.Is(err, transport.ErrAuthenticationRequired), errors.Is(err, transport.ErrAuthorizationFailed):
		return errors.New("the repository wants a credential that may read it: say where the service finds it")
	case errors.Is(err, transport.ErrEmptyRemoteRepository):
		return gonef("the repository is empty")
	}
	return fmt.Errorf("the repository cannot be read: %w", err)
}
