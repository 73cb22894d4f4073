package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing/object"

	"undersail/examples"
	"undersail/internal/templates"
)

const libraryName = "tide-office"

// loadTemplates keeps the templates of the Tide Office in a git repository of the
// demo's folder, with an earlier version of one of them, and publishes them from
// there as any library is.
func (d *Demo) loadTemplates(ctx context.Context) error {
	me, err := d.me(ctx)
	if err != nil {
		return err
	}
	dir := filepath.Join(d.config.Dir, "library")
	repo, err := git.PlainOpen(dir)
	if errors.Is(err, git.ErrRepositoryNotExists) {
		if repo, err = git.PlainInit(dir, false); err != nil {
			return fmt.Errorf("make the library: %w", err)
		}
		if err := commit(repo, dir, "The page with the warnings, as it began", earlier); err != nil {
			return err
		}
		_, err := d.daemon.Service.Templates.AddLibrary(ctx, me, templates.NewLibrary{Name: libraryName, Place: dir})
		if err != nil {
			return err
		}
	} else if err != nil {
		return fmt.Errorf("open the library: %w", err)
	}
	if err := commit(repo, dir, "The templates of the Tide Office",
		func(_ string, source []byte) []byte { return source }); err != nil {
		return err
	}
	read, err := d.daemon.Service.Templates.RefreshLibrary(ctx, me, libraryName)
	if err != nil {
		return err
	}
	for _, t := range read.Templates {
		if t.State == "unreadable" { // a refusal is an older demo's version with other bytes
			return fmt.Errorf("template %s: %s", t.File, t.Problem)
		}
	}
	return nil
}

// earlier gives the one file of the first commit: the warning page before readers
// could be limited.
func earlier(file string, source []byte) []byte {
	if file != "warning-site.sail.yaml" {
		return nil
	}
	text := strings.NewReplacer("version: 1.0.0", "version: 0.9.0", "default: No warnings at present",
		"default: Nothing is known", "maturity: supported", "maturity: trial", "takes: 3m",
		"takes: 5m").Replace(string(source))
	return []byte(text)
}

// commit writes the examples as change gives them, nil leaves one out, and
// commits what is different.
func commit(repo *git.Repository, dir, message string, change func(file string, source []byte) []byte) error {
	err := fs.WalkDir(examples.Files, ".", func(file string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || strings.HasSuffix(file, ".inputs.yaml") {
			return err
		}
		source, err := fs.ReadFile(examples.Files, file)
		if err != nil {
			return fmt.Errorf("committing what changed in %s: %w", dir, err)
		}
		if source = change(file, source); source == nil {
			return nil
		}
		to := filepath.Join(dir, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return fmt.Errorf("committing what changed in %s: %w", dir, err)
		}
		return os.WriteFile(to, source, 0o644)
	})
	if err != nil {
		return fmt.Errorf("write the library: %w", err)
	}
	tree, err := repo.Worktree()
	if err != nil {
		return fmt.Errorf("commit the library: %w", err)
	}
	if _, err := tree.Add("."); err != nil {
		return fmt.Errorf("commit the library: %w", err)
	}
	status, err := tree.Status()
	if err != nil || status.IsClean() {
		return err
	}
	_, err = tree.Commit(message, &git.CommitOptions{
		Author: &object.Signature{Name: "Ines Varga", Email: "ines@saltmere.example", When: time.Now()},
	})
	return err
}
