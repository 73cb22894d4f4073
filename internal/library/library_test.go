package library

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"undersail/internal/core/lang"
	"undersail/internal/library/librarytest"
)

const address = "resources: {a: {type: address}}\n"

func text(name, version, rest string) string {
	return "undersail: 1\nabout: {name: " + name + ", version: " + version + ", title: T}\n" + rest
}

func TestATemplateIsReadWithAllThatItEmbeds(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{
		"coast.sail.yaml": {
			Data: []byte(text("coast", "1.0.0",
				"resources:\n  e: {type: template, from: ./parts/edge.sail.yaml}\n  l: {type: template, "+
					"from: lamp@^1}\n")),
		},
		"parts/edge.sail.yaml": {
			Data: []byte(text("edge", "1.0.0",
				"resources:\n  d: {type: template, from: ./deep/disk.sail.yaml}\n  a: {type: address, want: {name: "+
					"'=file(\"motd.txt\")'}}\n")),
		},
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
	if lamp.File != "lamp@1.10.0" || edge.File != "parts/edge.sail.yaml" || disk.File != "parts/deep/disk.sail.yaml" ||
		motd.Source != "hello" {
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
	files := fstest.MapFS{
		"a.sail.yaml": {Data: []byte(text("a", "1.0.0", "resources: {b: {type: template, from: ./b.sail.yaml}}\n"))},
		"b.sail.yaml": {Data: []byte(text("b", "1.0.0", "resources: {a: {type: template, from: ./a.sail.yaml}}\n"))},
	}
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
	files := fstest.MapFS{
		"a.sail.yaml": {
			Data: []byte(text("a", "1.0.0",
				"resources:\n  b: {type: template, from: ./gone.sail.yaml}\n  c: {type: template, from: gone@^1}\n  "+
					"d: {type: address, want: {name: '=file(\"../../etc/passwd\")'}}\n")),
		},
	}
	b, err := Read(files, "a.sail.yaml", FromFolder(files))
	if err != nil {
		t.Fatal(err)
	}
	_, found := lang.ReadBundle(b)
	for _, want := range []string{"a.sail.yaml:4:29: there is no template ./gone.sail.yaml",
		"a.sail.yaml:5:29: there is no template gone@^1", `there is no file "../../etc/passwd" beside the template`} {
		if !strings.Contains(found.Error(), want) {
			t.Errorf("nothing of %q in\n%s", want, found.Error())
		}
	}
	if _, err := Read(files, "none.sail.yaml", nil); !errors.Is(err, fs.ErrNotExist) {
		t.Error(err)
	}
}

func TestAGitRepositoryIsReadByBranchTagAndCommit(t *testing.T) {
	t.Parallel()
	r := librarytest.New(t)
	first := r.Commit("stacks/lamp.sail.yaml", text("lamp", "1.0.0", address))
	r.Git("tag", "-a", "v1", "-m", "first")
	r.Git("checkout", "-q", "-b", "trial")
	trial := r.Commit("stacks/lamp.sail.yaml", text("lamp", "2.0.0", address))
	r.Git("checkout", "-q", "main")
	main := r.Commit("stacks/parts/x.sail.yaml", text("x", "1.0.0", address))
	for reference, want := range map[string]struct{ revision, version string }{
		"":      {main, "1.0.0"},
		"main":  {main, "1.0.0"},
		"v1":    {first, "1.0.0"},
		"trial": {trial, "2.0.0"},
		first:   {first, "1.0.0"},
		trial:   {trial, "2.0.0"},
	} {
		files, revision, err := Open(context.Background(), Place{At: r.Dir, Reference: reference, Folder: "stacks"},
			nil, filepath.Dir(r.Dir))
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
	_, _, err := Open(context.Background(), Place{At: r.Dir, Reference: "gone"}, nil, r.Dir)
	if err == nil || !strings.Contains(err.Error(), `no branch, tag or commit "gone"`) {
		t.Error(err)
	}
	if _, _, err := Open(context.Background(), Place{At: r.Dir, Folder: "../.."}, nil, r.Dir); err == nil {
		t.Error("a folder outside of the library is read")
	}
}

func TestOnlyOpenFoldersAreRead(t *testing.T) {
	t.Parallel()
	open, closed := t.TempDir(), t.TempDir()
	if err := os.Symlink(closed, filepath.Join(open, "link")); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Open(context.Background(), Place{At: open}, nil, open); err != nil {
		t.Error(err)
	}
	for _, at := range []string{closed, filepath.Join(open, "link"), filepath.Join(open, ".."), "/etc"} {
		_, _, err := Open(context.Background(), Place{At: at}, nil, open)
		if err == nil || !strings.Contains(err.Error(), "is not open to this service") {
			t.Errorf("%s: %v", at, err)
		}
	}
}

func TestATemplateThatEmbedsItselfByNameIsRefused(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{
		"a.sail.yaml": {
			Data: []byte(text("a", "1.0.0",
				"resources:\n  b: {type: template, from: b@^1}\n  c: {type: template, from: b@1.x}\n")),
		},
		"b.sail.yaml": {Data: []byte(text("b", "1.0.0", "resources: {a: {type: template, from: a@^1}}\n"))},
	}
	_, err := Read(files, "a.sail.yaml", FromFolder(files))
	if err == nil || !strings.Contains(err.Error(), "template b embeds itself through b.sail.yaml") {
		t.Error(err)
	}
}

// TestManyWaysToOneTemplateAreReadOnce embeds two templates of the layer below,
// layer by layer: read each way anew this would be a million readings.
func TestManyWaysToOneTemplateAreReadOnce(t *testing.T) {
	t.Parallel()
	files := fstest.MapFS{"l0.sail.yaml": {Data: []byte(text("l0", "1.0.0", address))}}
	for layer := 1; layer <= 20; layer++ {
		below := fmt.Sprintf("l%d", layer-1)
		files[fmt.Sprintf("l%d.sail.yaml", layer)] = &fstest.MapFile{
			Data: []byte(text(fmt.Sprintf("l%d", layer), "1.0.0",
				fmt.Sprintf("resources:\n  a: {type: template, from: %s@^1}\n  b: {type: template, from: %s@1}\n",
					below, below))),
		}
	}
	_, err := Read(files, "l20.sail.yaml", FromFolder(files))
	if err == nil || !strings.Contains(err.Error(), "at most 4194304 are read") {
		t.Errorf("%.300v", err)
	}
}

func TestNewest(t *testing.T) {
	t.Parallel()
	versions := []string{"1.2.0", "no version", "1.10.0", "2.0.0-rc.1", "1.9.9"}
	for wanted, want := range map[string]int{"": 2, "^1": 2, "1.2.0": 0, "<1.10": 4, "^3": -1} {
		if got, err := Newest(versions, wanted); err != nil || got != want {
			t.Errorf("%q is %d, %v; want %d", wanted, got, err, want)
		}
	}
	if _, err := Newest(versions, "newest"); err == nil {
		t.Error("a word is a range")
	}
}
