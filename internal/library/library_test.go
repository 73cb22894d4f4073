package library

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"undersail/internal/core/lang"
)

const address = "resources: {a: {type: address}}\n"

func text(name, version, rest string) string {
	return "undersail: 1\nabout: {name: " + name + ", version: " + version + ", title: T}\n" + rest
}

func TestATemplateIsReadWithAllThatItEmbeds(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{
		"coast.sail.yaml":           {Data: []byte(text("coast", "1.0.0", "resources:\n  e: {type: template, from: ./parts/edge.sail.yaml}\n  l: {type: template, from: lamp@^1}\n"))},
		"parts/edge.sail.yaml":      {Data: []byte(text("edge", "1.0.0", "resources:\n  d: {type: template, from: ./deep/disk.sail.yaml}\n  a: {type: address, want: {name: '=file(\"motd.txt\")'}}\n"))},
		"parts/motd.txt":            {Data: []byte("hello")},
		"parts/deep/disk.sail.yaml": {Data: []byte(text("disk", "1.0.0", address))},
		"lamp-1.sail.yaml":          {Data: []byte(text("lamp", "1.2.0", address))},
		"lamp-2.sail.yaml":          {Data: []byte(text("lamp", "1.10.0", address))},
		"lamp-3.sail.yaml":          {Data: []byte(text("lamp", "2.0.0", address))},
	}
	b, err := Read(files, "coast.sail.yaml", FromFolder(files))
	if err != nil {
		t.Fatal(err)
	}
	template, found := lang.ReadBundle(b)
	if template == nil {
		t.Fatal(found)
	}
	lamp, _ := b.Part("lamp@^1")
	edge, _ := b.Part("./parts/edge.sail.yaml")
	disk, _ := edge.Part("./deep/disk.sail.yaml")
	motd, _ := edge.Part("motd.txt")
	if lamp.File != "lamp@1.10.0" || edge.File != "parts/edge.sail.yaml" || disk.File != "parts/deep/disk.sail.yaml" || motd.Source != "hello" {
		t.Errorf("%s %s %s %q", lamp.File, edge.File, disk.File, motd.Source)
	}
	changed := b
	changed.Parts = append([]lang.Bundle{}, b.Parts...)
	changed.Parts[0].Source += "# more\n"
	if b.Digest() == changed.Digest() {
		t.Error("a change of a part does not change the digest")
	}
}

func TestATemplateThatEmbedsItselfIsToldNotFollowed(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"a.sail.yaml": {Data: []byte(text("a", "1.0.0", "resources: {b: {type: template, from: ./b.sail.yaml}}\n"))},
		"b.sail.yaml": {Data: []byte(text("b", "1.0.0", "resources: {a: {type: template, from: ./a.sail.yaml}}\n"))}}
	b, err := Read(files, "a.sail.yaml", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, found := lang.ReadBundle(b); !strings.Contains(found.Error(), "templates are embedded more than 8 deep") {
		t.Error(found)
	}
}

func TestWhatIsMissingIsToldWhereItIsNamed(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"a.sail.yaml": {Data: []byte(text("a", "1.0.0", "resources:\n  b: {type: template, from: ./gone.sail.yaml}\n  c: {type: template, from: gone@^1}\n  d: {type: address, want: {name: '=file(\"../../etc/passwd\")'}}\n"))}}
	b, err := Read(files, "a.sail.yaml", FromFolder(files))
	if err != nil {
		t.Fatal(err)
	}
	_, found := lang.ReadBundle(b)
	for _, want := range []string{"a.sail.yaml:4:29: there is no template ./gone.sail.yaml", "a.sail.yaml:5:29: there is no template gone@^1", `there is no file "../../etc/passwd" beside the template`} {
		if !strings.Contains(found.Error(), want) {
			t.Errorf("nothing of %q in\n%s", want, found.Error())
		}
	}
	if _, err := Read(files, "none.sail.yaml", nil); !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
}

// repository makes a real git repository.
type repository struct {
	t   *testing.T
	dir string
}

func (r repository) git(args ...string) string {
	r.t.Helper()
	cmd := exec.Command("git", args...)
	cmd.Dir = r.dir
	cmd.Env = append(os.Environ(), "GIT_AUTHOR_NAME=Ines", "GIT_AUTHOR_EMAIL=ines@saltmere.example", "GIT_COMMITTER_NAME=Ines", "GIT_COMMITTER_EMAIL=ines@saltmere.example", "GIT_CONFIG_GLOBAL=/dev/null", "GIT_CONFIG_SYSTEM=/dev/null")
	out, err := cmd.CombinedOutput()
	if err != nil {
		r.t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return strings.TrimSpace(string(out))
}

func (r repository) commit(file, content string) string {
	r.t.Helper()
	path := filepath.Join(r.dir, file)
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		r.t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(content), 0o644); err != nil {
		r.t.Fatal(err)
	}
	r.git("add", "-A")
	r.git("commit", "-q", "-m", "change "+file)
	return r.git("rev-parse", "HEAD")
}

func TestAGitRepositoryIsReadByBranchTagAndCommit(t *testing.T) {
	t.Parallel()
	r := repository{t, t.TempDir()}
	r.git("init", "-q", "-b", "main")
	first := r.commit("stacks/lamp.sail.yaml", text("lamp", "1.0.0", address))
	r.git("tag", "-a", "v1", "-m", "first")
	r.git("checkout", "-q", "-b", "trial")
	trial := r.commit("stacks/lamp.sail.yaml", text("lamp", "2.0.0", address))
	r.git("checkout", "-q", "main")
	main := r.commit("stacks/parts/x.sail.yaml", text("x", "1.0.0", address))
	for reference, want := range map[string]struct{ revision, version string }{
		"": {main, "1.0.0"}, "main": {main, "1.0.0"}, "v1": {first, "1.0.0"}, "trial": {trial, "2.0.0"}, first: {first, "1.0.0"}, trial: {trial, "2.0.0"},
	} {
		files, revision, err := Open(context.Background(), Place{At: r.dir, Reference: reference, Folder: "stacks"}, filepath.Dir(r.dir))
		if err != nil {
			t.Errorf("%s: %v", reference, err)
			continue
		}
		list, err := Templates(files)
		if err != nil || len(list) != 1 || list[0] != "lamp.sail.yaml" {
			t.Errorf("%s: %v %v", reference, list, err)
			continue
		}
		source, _ := fs.ReadFile(files, list[0])
		if got := lang.AboutOf(source).Version; got != want.version || revision != want.revision {
			t.Errorf("%s: version %s at %s, want %s at %s", reference, got, revision, want.version, want.revision)
		}
	}
	if _, _, err := Open(context.Background(), Place{At: r.dir, Reference: "gone"}, r.dir); err == nil || !strings.Contains(err.Error(), `no branch, tag or commit "gone"`) {
		t.Error(err)
	}
	if _, _, err := Open(context.Background(), Place{At: r.dir, Folder: "../.."}, r.dir); err == nil {
		t.Error("a folder outside of the library is read")
	}
}

func TestOnlyOpenFoldersAreRead(t *testing.T) {
	t.Parallel()
	open, closed := t.TempDir(), t.TempDir()
	if err := os.Symlink(closed, filepath.Join(open, "link")); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Open(context.Background(), Place{At: open}, open); err != nil {
		t.Error(err)
	}
	for _, at := range []string{closed, filepath.Join(open, "link"), filepath.Join(open, ".."), "/etc"} {
		if _, _, err := Open(context.Background(), Place{At: at}, open); err == nil || !strings.Contains(err.Error(), "is not open to this service") {
			t.Errorf("%s: %v", at, err)
		}
	}
}
