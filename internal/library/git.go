package library

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-git/go-billy/v5/helper/iofs"
	"github.com/go-git/go-billy/v5/memfs"
	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-billy/v5/util"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/client"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	"github.com/go-git/go-git/v5/storage/filesystem"
	"github.com/go-git/go-git/v5/storage/memory"

	"undersail/internal/reach"
)

// Place is where a library lies: a folder, or the URL of a git repository with
// what of it to read.
type Place struct {
	// At is the path of a folder or a git repository, or the URL of one.
	At string
	// Reference is a branch, a tag or a commit; the default branch when empty.
	Reference string
	// Folder is a folder within it; the top when empty.
	Folder string
	// User and Token sign in to the URL.
	User, Token string
}

// Largest is how many bytes of one library are read.
const Largest = 64 << 20

// readWithin bounds reading a repository over the network.
const readWithin = 2 * time.Minute

// CheckURL says what is wrong with the URL of a library: only HTTP is read, and
// credentials are given apart, to be sealed.
func CheckURL(at string) error {
	u, err := url.Parse(at)
	switch {
	case err != nil:
		return errors.New("that is no URL")
	case u.Scheme != "https" && u.Scheme != "http" || u.Host == "":
		return errors.New("only repositories at https URLs are read; give a token with --user where it wants one")
	case u.User != nil:
		return errors.New("the URL holds credentials; give them apart with --user, and they are sealed")
	}
	return nil
}

// IsURL tells a URL from a folder.
func IsURL(at string) bool {
	before, _, found := strings.Cut(at, "://")
	return found && !strings.ContainsAny(before, `/\`)
}

// Open reads a library. Revision is the commit, or "" for a plain folder. Local folders
// are only opened inside one of the allowed ones, URLs only where the policy reaches.
func Open(ctx context.Context, p Place, policy *reach.Policy,
	allowed ...string) (files fs.FS, revision string, err error) {
	if p.Folder != "" && !fs.ValidPath(p.Folder) {
		return nil, "", fmt.Errorf("%q is not a folder within a library", p.Folder)
	}
	if IsURL(p.At) {
		if err := CheckURL(p.At); err != nil {
			return nil, "", err
		}
		return clone(ctx, p, policy)
	}
	real, err := inside(p.At, allowed)
	if err != nil {
		return nil, "", err
	}
	if store, ok := repositoryAt(real); ok {
		repo, err := git.Open(store, nil)
		if err != nil {
			return nil, "", fmt.Errorf("read the repository %s: %w", p.At, err)
		}
		return commitFiles(repo, p, "refs/heads/"+p.Reference)
	}
	if files, err = Dir(real); err != nil {
		return nil, "", err
	}
	if p.Folder != "" {
		if files, err = fs.Sub(files, p.Folder); err != nil {
			return nil, "", fmt.Errorf("opening the repository: %w", err)
		}
	}
	_, err = fs.ReadDir(files, ".")
	return files, "", err
}

// inside gives where a folder really is, if that is inside an allowed one.
func inside(at string, allowed []string) (string, error) {
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return "", fmt.Errorf("open library: %w", err)
	}
	for _, dir := range allowed {
		root, err := filepath.EvalSymlinks(dir)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, real); err == nil && filepath.IsLocal(rel) {
			return real, nil
		}
	}
	return "", fmt.Errorf("folder %s is not open to this service; give a URL, or start it with --local-libraries", at)
}

// repositoryAt opens the git repository of a folder, in its folder .git or bare. A file
// .git names another place, and is no repository of this one; nothing of what the
// repository says leads out of it either.
func repositoryAt(at string) (*filesystem.Storage, bool) {
	dir := filepath.Join(at, ".git")
	if info, err := os.Lstat(dir); err != nil || !info.IsDir() {
		head, headErr := os.Lstat(filepath.Join(at, "HEAD"))
		objects, err := os.Lstat(filepath.Join(at, "objects"))
		if headErr != nil || err != nil || !head.Mode().IsRegular() || !objects.IsDir() {
			return nil, false
		}
		dir = at
	}
	bound := osfs.New(dir, osfs.WithBoundOS())
	return filesystem.NewStorageWithOptions(bound, cache.NewObjectLRU(8*cache.MiByte), filesystem.Options{
		AlternatesFS:         bound,
		LargeObjectThreshold: Largest,
	}), true
}

// policyKey carries the policy of a reading to the transport, which go-git shares.
type policyKey struct{}

var install sync.Once

// overHTTP makes go-git's calls go through the policy of whoever reads.
func overHTTP() {
	install.Do(func() {
		transports := sync.Map{}
		c := githttp.NewClient(&http.Client{Transport: roundTripper(func(r *http.Request) (*http.Response, error) {
			policy, _ := r.Context().Value(policyKey{}).(*reach.Policy)
			t, _ := transports.LoadOrStore(policy, policy.Transport())
			return t.(*http.Transport).RoundTrip(r)
		}), CheckRedirect: reach.Redirects})
		client.InstallProtocol("https", c)
		client.InstallProtocol("http", c)
		for _, other := range []string{"ssh", "git", "file"} {
			client.InstallProtocol(other, nil)
		}
	})
}

type roundTripper func(*http.Request) (*http.Response, error)

func (f roundTripper) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

// clone reads one commit of a repository into memory, and nothing of what came before.
func clone(ctx context.Context, p Place, policy *reach.Policy) (fs.FS, string, error) {
	overHTTP()
	ctx, cancel := context.WithTimeout(context.WithValue(ctx, policyKey{}, policy), readWithin)
	defer cancel()
	var auth transport.AuthMethod
	if p.Token != "" {
		auth = &githttp.BasicAuth{Username: p.User, Password: p.Token}
	}
	repo, err := git.Init(bounded{memory.NewStorage()}, nil)
	if err != nil {
		return nil, "", err
	}
	remote, err := repo.CreateRemote(&config.RemoteConfig{Name: "origin", URLs: []string{p.At}})
	if err != nil {
		return nil, "", err
	}
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: auth})
	if err != nil {
		return nil, "", unreadable(p, err)
	}
	from, err := wanted(refs, p)
	if err != nil {
		return nil, "", err
	}
	const here = "refs/heads/wanted"
	err = remote.FetchContext(ctx, &git.FetchOptions{
		Auth:     auth,
		Depth:    1,
		Tags:     git.NoTags,
		RefSpecs: []config.RefSpec{config.RefSpec(from + ":" + here)},
	})
	if err != nil {
		return nil, "", unreadable(p, err)
	}
	return commitFiles(repo, p, here)
}

// wanted is what to fetch: a branch first, then a tag, then a commit.
func wanted(refs []*plumbing.Reference, p Place) (string, error) {
	byName := map[string]*plumbing.Reference{}
	for _, r := range refs {
		byName[r.Name().String()] = r
	}
	if p.Reference == "" {
		if head := byName["HEAD"]; head != nil && head.Type() == plumbing.SymbolicReference {
			return head.Target().String(), nil
		}
		return "HEAD", nil
	}
	for _, name := range []string{"refs/heads/" + p.Reference, "refs/tags/" + p.Reference} {
		if byName[name] != nil {
			return name, nil
		}
	}
	if plumbing.IsHash(p.Reference) {
		return p.Reference, nil
	}
	return "", fmt.Errorf("repository %s has no branch, tag or commit %q", p.At, p.Reference)
}

// unreadable says why a repository cannot be read, in words of our own: what came back
// may be anything.
func unreadable(p Place, err error) error {
	var refused *reach.Refused
	why := "it does not answer as a git repository"
	switch {
	case errors.As(err, &refused):
		why = refused.Why
	case errors.Is(err, errPacked), errors.Is(err, errInflated):
		why = err.Error()
	case errors.Is(err, transport.ErrAuthenticationRequired), errors.Is(err, transport.ErrAuthorizationFailed):
		why = "it wants to know who asks; give a user and a token"
	case errors.Is(err, transport.ErrRepositoryNotFound):
		why = "there is no such repository, or these credentials may not see it"
	case errors.Is(err, context.DeadlineExceeded):
		why = fmt.Sprintf("it did not answer within %s", readWithin)
	case errors.As(err, new(git.NoMatchingRefSpecError)):
		why = fmt.Sprintf("it has no branch, tag or commit %q", p.Reference)
	}
	return fmt.Errorf("repository %s: %s", p.At, why)
}

// commitFiles reads the files of a commit. Branch is where a branch of the wanted name
// would be.
func commitFiles(repo *git.Repository, p Place, branch string) (fs.FS, string, error) {
	hash, err := resolve(repo, p.Reference, branch)
	if err != nil {
		return nil, "", fmt.Errorf("repository %s has no branch, tag or commit %q: %w", p.At, p.Reference, err)
	}
	commit, err := repo.CommitObject(hash)
	if err != nil {
		return nil, "", fmt.Errorf("read commit %s: %w", hash, err)
	}
	tree, err := commit.Tree()
	if err != nil {
		return nil, "", fmt.Errorf("read commit %s: %w", hash, err)
	}
	if p.Folder != "" {
		if tree, err = tree.Tree(p.Folder); err != nil {
			return nil, "", fmt.Errorf("commit %s has no folder %s: %w", hash, p.Folder, err)
		}
	}
	files, err := contents(repo, tree)
	return files, hash.String(), err
}

// resolve finds the commit of a reference: a branch first, then a tag, then a commit.
func resolve(repo *git.Repository, reference, branch string) (plumbing.Hash, error) {
	names := []string{branch, "refs/tags/" + reference, reference}
	if reference == "" {
		names = []string{branch, "HEAD"}
	}
	var last error
	for _, name := range names {
		hash, err := repo.ResolveRevision(plumbing.Revision(name))
		if err == nil {
			return *hash, nil
		}
		last = err
	}
	return plumbing.ZeroHash, last
}

// mostFiles is how many files of a library are looked at.
const mostFiles = 20_000

// contents reads the regular files of a tree. The size of each is asked for before it is
// unpacked.
func contents(repo *git.Repository, tree *object.Tree) (fs.FS, error) {
	out := memfs.New()
	total, n := int64(0), 0
	walk := object.NewTreeWalker(tree, true, nil)
	defer walk.Close()
	for {
		name, entry, err := walk.Next()
		if errors.Is(err, io.EOF) {
			return iofs.New(out), nil
		}
		if err != nil {
			return nil, fmt.Errorf("list the files of a commit: %w", err)
		}
		if n++; n > mostFiles {
			return nil, fmt.Errorf("the library has more than %d files; name a folder of it", mostFiles)
		}
		if entry.Mode != filemode.Regular && entry.Mode != filemode.Executable || strings.Contains(name, "..") {
			continue // links could lead out of the library
		}
		size, err := repo.Storer.EncodedObjectSize(entry.Hash)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		if total += size; total > Largest {
			return nil, fmt.Errorf("the library has more than %d MiB; name a folder of it", Largest>>20)
		}
		file, err := repo.BlobObject(entry.Hash)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		text, err := read(file, size)
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", name, err)
		}
		if err := util.WriteFile(out, name, text, 0o644); err != nil {
			return nil, err
		}
	}
}

func read(file *object.Blob, size int64) ([]byte, error) {
	r, err := file.Reader()
	if err != nil {
		return nil, fmt.Errorf("reading a repository: %w", err)
	}
	defer r.Close()
	return io.ReadAll(io.LimitReader(r, size))
}
