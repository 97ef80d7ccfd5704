package repositories

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/client"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/filesystem"
	"github.com/go-git/go-git/v5/storage/memory"

	"nimblepane/engine"
	"nimblepane/store"
)

// gone is why what is in a repository now is no sheet that may be built: looking again cannot mend it, a commit can.
type gone struct{ why string }

func (g *gone) Error() string { return g.why }

func gonef(format string, args ...any) error { return &gone{fmt.Sprintf(format, args...)} }

// Files of a commit that are larger are read piece by piece from the disk, and never kept whole in memory.
const streamedFrom = 1 << 20 // bytes

// leave is the key of what a context says about asking this computer.
type leave struct{}

// overHTTP has git's HTTP go through a client that asks this computer only with leave. It is one for the process:
// that is how the protocols are known. Whose leave it is comes with each request.
var overHTTP = sync.OnceFunc(func() {
	dialer := &net.Dialer{Timeout: 10 * time.Second, ControlContext: func(ctx context.Context, _, address string,
		_ syscall.RawConn,
	) error {
		if here, _ := ctx.Value(leave{}).(bool); here {
			return nil
		}
		return engine.CheckOutside(address)
	}}
	c := engine.Outside(true, patience)
	c.Transport.(*http.Transport).DialContext = dialer.DialContext
	client.InstallProtocol("http", githttp.NewClient(c))
	client.InstallProtocol("https", githttp.NewClient(c))
})

var (
	commitForm = regexp.MustCompile(`^[0-9a-f]{40}$`)
	refForm    = regexp.MustCompile(`^[\pL\pN_.+/@-]{1,200}$`)
)

// checkAddress refuses an address that is none of a repository, or not one that the service may ask.
func (rs *Repositories) checkAddress(r store.Repository) error {
	end, err := transport.NewEndpoint(r.Address)
	wrong := "%q is no address of a repository: write https://HOST/PATH, ssh://USER@HOST/PATH or file:///PATH"
	if err != nil || strings.ContainsAny(r.Address, "\n\x00") {
		return engine.Invalidf(wrong, r.Address)
	}
	if end.Password != "" {
		return engine.Invalidf("the address has a password in it, which everybody could read: leave it out, and say " +
			"where the service finds it")
	}
	c := r.Credential.V
	switch end.Protocol {
	case "https", "http":
		switch {
		case end.User != "":
			return engine.Invalidf("the address has a user in it: leave it out, and say who it is beside it")
		case c.Key != nil || c.KnownHosts != nil:
			return engine.Invalidf("a key and known hosts are for SSH: over %s a password or a token is shown",
				end.Protocol)
		case end.Protocol == "http" && c.Password != nil:
			return engine.Invalidf("over http:// anybody on the way could read the password: use https://")
		case c.User != "" && c.Password == nil:
			return engine.Invalidf("there is a user and no password: say where the service finds it")
		}
	case "ssh":
		switch {
		case c.Password != nil:
			return engine.Invalidf("over SSH a key is shown, and no password: say where the service finds it")
		case c.Key == nil || c.KnownHosts == nil:
			return engine.Invalidf("over SSH the service needs a private key and the known hosts: say in which " +
				"secrets it finds them")
		}
	case "file":
		if !strings.HasPrefix(r.Address, "file:///") {
			return engine.Invalidf(wrong, r.Address)
		}
		if c != (store.Credential{}) {
			return engine.Invalidf("a repository in a folder is shown no credential: leave it out")
		}
		_, err := rs.local(r.Address)
		return err
	default:
		return engine.Invalidf(wrong, r.Address)
	}
	return nil
}

// local is the folder of a repository on this computer, which has to be in that of the service's repositories.
func (rs *Repositories) local(address string) (string, error) {
	if rs.engine.Repositories == "" {
		return "", engine.Conflictf("repositories in folders of the service's computer are not read without leave: " +
			"start the service with --repositories FOLDER")
	}
	u, err := url.Parse(address)
	if err != nil {
		return "", engine.Invalidf("%q is no address: %s", address, err)
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
		return "", engine.Invalidf("%s cannot be looked at: %s", u.Path, err)
	}
	if in, err := filepath.Rel(within, path); err != nil || in == ".." || strings.HasPrefix(in, "../") {
		return "", engine.Invalidf("%s is not in the folder of repositories that the service may read (%s)", u.Path,
			within)
	}
	return path, nil
}

// auth is what is shown to a repository.
func (rs *Repositories) auth(ctx context.Context, r store.Repository, dir string) (transport.AuthMethod, error) {
	end, err := transport.NewEndpoint(r.Address)
	if err != nil {
		return nil, err
	}
	c := r.Credential.V
	switch {
	case end.Protocol == "ssh":
		if err := rs.outside(ctx, end); err != nil {
			return nil, err
		}
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

// outside refuses a host that is this computer, unless there is leave.
func (rs *Repositories) outside(ctx context.Context, end *transport.Endpoint) error {
	if rs.engine.FetchFromHere {
		return nil
	}
	found, err := net.DefaultResolver.LookupNetIP(ctx, "ip", end.Host)
	if err != nil {
		return err
	}
	for _, ip := range found {
		if err := engine.CheckOutside(netip.AddrPortFrom(ip, 22).String()); err != nil {
			return err
		}
	}
	return nil
}

// tip is the commit that is followed in a repository now.
func (rs *Repositories) tip(ctx context.Context, r store.Repository, auth transport.AuthMethod) (string, error) {
	if r.Commit != "" {
		return r.Commit, nil
	}
	remote := git.NewRemote(memory.NewStorage(), &config.RemoteConfig{Name: "origin", URLs: []string{r.Address}})
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: auth, PeelingOption: git.AppendPeeled})
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

// fetched is a commit with its repository, as far as that was fetched.
type fetched struct {
	repo *git.Repository
	hash plumbing.Hash
}

// fetch brings the commit that is followed to a folder, with so many before it.
func (rs *Repositories) fetch(ctx context.Context, r store.Repository, auth transport.AuthMethod, dir string,
	depth int,
) (fetched, error) {
	return bounded(ctx, rs, r, atMost, func(ctx context.Context) (f fetched, err error) {
		f.repo, f.hash, err = fetchTo(ctx, r, auth, dir, depth)
		return f, err
	})
}

// fetchTo is fetch, which may hang.
func fetchTo(ctx context.Context, r store.Repository, auth transport.AuthMethod, dir string, depth int) (
	repo *git.Repository, hash plumbing.Hash, err error,
) {
	kept := filesystem.NewStorageWithOptions(osfs.New(filepath.Join(dir, "git")), cache.NewObjectLRU(8*cache.MiByte),
		filesystem.Options{LargeObjectThreshold: streamedFrom})
	if repo, err = git.Init(kept, osfs.New(filepath.Join(dir, "tree"))); err != nil {
		return nil, hash, err
	}
	if _, err = repo.CreateRemote(&config.RemoteConfig{Name: "origin", URLs: []string{r.Address}}); err != nil {
		return nil, hash, err
	}
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
		return repo.FetchContext(ctx, &git.FetchOptions{
			RefSpecs: specs, Depth: depth, Auth: auth, Tags: git.NoTags, Force: true,
		})
	}
	err = fetch(depth, config.RefSpec(from+":"+seen))
	if r.Commit != "" && err != nil && ctx.Err() == nil {
		// Not every server gives one commit that no branch or tag ends with: then it is looked for in all of them.
		if err = fetch(0, "+refs/heads/*:refs/remotes/*", "+refs/tags/*:refs/tags/*"); err != nil {
			return nil, hash, inWords(err)
		}
		hash = plumbing.NewHash(r.Commit)
		if _, err := repo.CommitObject(hash); err != nil {
			return nil, hash, gonef("the repository has no %s", r.Of())
		}
		return repo, hash, nil
	}
	if err != nil {
		return nil, hash, inWords(err)
	}
	is, err := repo.ResolveRevision(seen) // a tag may be of its own, and name the commit
	if err != nil {
		return nil, hash, gonef("%s of the repository is of no commit: %s", r.Of(), err)
	}
	return repo, *is, nil
}

// inWords says what is wrong with a repository as somebody can act on.
func inWords(err error) error {
	var none git.NoMatchingRefSpecError
	switch {
	case errors.Is(err, engine.ErrForbidden):
		return engine.ErrForbidden
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

// out puts the files of a commit's folder beside its records, and opens that folder: nothing outside it is reached.
func out(repo *git.Repository, hash plumbing.Hash, dir, folder string) (*os.Root, error) {
	tree, err := repo.Worktree()
	if err != nil {
		return nil, err
	}
	o := &git.CheckoutOptions{Hash: hash, Force: true}
	if folder != "" {
		o.SparseCheckoutDirectories = []string{folder}
	}
	if err := tree.Checkout(o); err != nil {
		return nil, fmt.Errorf("put out the files of commit %.12s: %w", hash, err)
	}
	top, err := os.OpenRoot(filepath.Join(dir, "tree"))
	if err != nil || folder == "" {
		return top, err
	}
	defer top.Close()
	root, err := top.OpenRoot(folder)
	if err != nil {
		return nil, gonef("commit %.12s has no folder %s", hash, folder)
	}
	return root, nil
}

// mostCommits is how many commits a history names at most.
const mostCommits = 500

// history are the commits up to one that changed something in a folder, the newest first, as far as they are here.
func history(repo *git.Repository, head plumbing.Hash, folder string) (commits []store.Commit, err error) {
	all, err := repo.Log(&git.LogOptions{From: head, Order: git.LogOrderCommitterTime})
	if err != nil {
		return nil, err
	}
	defer all.Close()
	for len(commits) < mostCommits {
		c, err := all.Next()
		if err != nil {
			break // the first of all, or what is before the last that was fetched
		}
		changed, err := changes(repo, c, folder)
		if err != nil {
			return nil, err
		}
		if changed {
			subject, _, _ := strings.Cut(strings.TrimSpace(c.Message), "\n")
			commits = append(commits, store.Commit{Hash: c.Hash.String(), Subject: short(subject)})
		}
	}
	return commits, nil
}

// short is a text of somebody else's, of which 200 characters will do.
func short(text string) string {
	runes := []rune(strings.ToValidUTF8(strings.TrimSpace(text), "?"))
	return string(runes[:min(len(runes), 200)])
}

// changes says whether a folder is another in a commit than in each of those before it that are here.
func changes(repo *git.Repository, c *object.Commit, folder string) (bool, error) {
	is, err := folderOf(c, folder)
	if err != nil {
		return false, err
	}
	if len(c.ParentHashes) == 0 {
		return !is.IsZero(), nil
	}
	for _, h := range c.ParentHashes {
		before, err := repo.CommitObject(h)
		if err != nil {
			return false, nil // it was not fetched: nobody can say
		}
		was, err := folderOf(before, folder)
		if err != nil || was == is {
			return false, err
		}
	}
	return true, nil
}

// folderOf is the tree of a folder in a commit, zero if it has none.
func folderOf(c *object.Commit, folder string) (plumbing.Hash, error) {
	tree, err := c.Tree()
	if err != nil || folder == "" {
		return c.TreeHash, err
	}
	e, err := tree.FindEntry(folder)
	if err != nil {
		return plumbing.ZeroHash, nil
	}
	return e.Hash, nil
}
