// Package librarytest gives tests a real git repository to keep templates in.
package librarytest

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// Repository is a git repository in a folder of the test.
type Repository struct {
	t   *testing.T
	Dir string
}

// New makes an empty repository with the branch main.
func New(t *testing.T) Repository {
	t.Helper()
	r := Repository{t, t.TempDir()}
	r.Git("init", "-q", "-b", "main")
	return r
}

// Git runs git there, with nobody's configuration, and gives what it said.
func (r Repository) Git(args ...string) string {
	r.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.Dir
	cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Ines", "GIT_AUTHOR_EMAIL=ines@saltmere.example",
		"GIT_COMMITTER_NAME=Ines", "GIT_COMMITTER_EMAIL=ines@saltmere.example",
		"GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

// Commit writes a file, commits it and gives the commit.
func (r Repository) Commit(file, text string) string {
	r.t.Helper()
	path := filepath.Join(r.Dir, file)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		r.t.Fatal(err)
	}
	r.Git("add", "-A")
	r.Git("commit", "-q", "-m", "change "+file)
	return r.Git("rev-parse", "HEAD")
}
