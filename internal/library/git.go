package library

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-billy/v5/helper/iofs"
	"github.com/go-git/go-billy/v5/memfs"
	"github.com/go-git/go-billy/v5/util"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/storage/memory"
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
}

// Largest is how many bytes of one library are read.
const Largest = 64 << 20

// Open reads a library. Revision is the commit, or "" for a plain folder.
// Local folders are only opened inside one of the allowed ones.
func Open(ctx context.Context, p Place, allowed ...string) (files fs.FS, revision string, err error) {
	if p.Folder != "" && !fs.ValidPath(p.Folder) {
		return nil, "", fmt.Errorf("%q is not a folder within a library", p.Folder)
	}
	remote := false
	if u, err := url.Parse(p.At); err == nil && (u.Scheme == "https" || u.Scheme == "ssh" || u.Scheme == "http") {
		remote = true
	}
	if !remote {
		if err := inside(p.At, allowed); err != nil {
			return nil, "", err
		}
		if !isRepository(p.At) {
			files = os.DirFS(filepath.Join(p.At, filepath.FromSlash(p.Folder)))
			_, err := fs.Stat(files, ".")
			return files, "", err
		}
	}
	return clone(ctx, p)
}

func inside(at string, allowed []string) error {
	real, err := filepath.EvalSymlinks(at)
	if err != nil {
		return fmt.Errorf("open library: %w", err)
	}
	for _, dir := range allowed {
		root, err := filepath.EvalSymlinks(dir)
		if err != nil {
			continue
		}
		if rel, err := filepath.Rel(root, real); err == nil && filepath.IsLocal(rel) {
			return nil
		}
	}
	return fmt.Errorf("folder %s is not open to this service; give a URL, or start it with --local-libraries", at)
}

func isRepository(at string) bool {
	for _, mark := range []string{".git", "HEAD"} {
		if _, err := os.Stat(filepath.Join(at, mark)); err == nil {
			return true
		}
	}
	return false
}

// clone reads one commit of a repository into memory.
func clone(ctx context.Context, p Place) (fs.FS, string, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	repo, err := git.CloneContext(ctx, memory.NewStorage(), nil, &git.CloneOptions{URL: p.At, NoCheckout: true, Tags: git.AllTags})
	if err != nil {
		return nil, "", fmt.Errorf("read the repository %s: %w", p.At, err)
	}
	hash, err := resolve(repo, p.Reference)
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
	files, err := contents(tree)
	return files, hash.String(), err
}

// resolve finds the commit of a reference: a branch first, as it is on the
// other side now, then a tag, then a commit.
func resolve(repo *git.Repository, reference string) (plumbing.Hash, error) {
	if reference == "" {
		head, err := repo.Head()
		if err != nil {
			return plumbing.ZeroHash, err
		}
		return head.Hash(), nil
	}
	var last error
	for _, name := range []string{"refs/remotes/origin/" + reference, "refs/tags/" + reference, reference} {
		hash, err := repo.ResolveRevision(plumbing.Revision(name))
		if err == nil {
			return *hash, nil
		}
		last = err
	}
	return plumbing.ZeroHash, last
}

func contents(tree *object.Tree) (fs.FS, error) {
	out := memfs.New()
	total := int64(0)
	walk := tree.Files()
	defer walk.Close()
	for {
		f, err := walk.Next()
		if errors.Is(err, io.EOF) {
			return iofs.New(out), nil
		}
		if err != nil {
			return nil, fmt.Errorf("list the files of a commit: %w", err)
		}
		if !f.Mode.IsRegular() || strings.Contains(f.Name, "..") {
			continue // links could lead out of the library
		}
		if total += f.Size; total > Largest {
			return nil, fmt.Errorf("the library has more than %d MiB; name a folder of it", Largest>>20)
		}
		text, err := f.Contents()
		if err != nil {
			return nil, fmt.Errorf("read %s: %w", f.Name, err)
		}
		if err := util.WriteFile(out, f.Name, []byte(text), 0o644); err != nil {
			return nil, err
		}
	}
}
