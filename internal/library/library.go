// Package library reads templates from folders and from git repositories: a
// template file together with all that it embeds. It checks nothing and keeps
// nothing; reading a template is for core/lang, keeping it for the service.
package library

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"github.com/Masterminds/semver/v3"

	"undersail/internal/core/lang"
)

// Suffix ends the names of template files.
const Suffix = ".sail.yaml"

// Fetch finds a template of a library by NAME@RANGE.
type Fetch func(ref string) (lang.Bundle, error)

// ErrUnknown says that no library has a template or a version of it.
var ErrUnknown = errors.New("no library has it")

// Read reads a template file and, as deep as they go, the templates and files
// that it embeds. What is missing is left out: checking the template says where
// it is named. A nil fetch leaves templates of libraries out too.
func Read(files fs.FS, file string, fetch Fetch) (lang.Bundle, error) {
	source, err := fs.ReadFile(files, file)
	if err != nil {
		return lang.Bundle{}, fmt.Errorf("read template: %w", err)
	}
	r := reader{files: files, fetch: fetch}
	b := lang.Bundle{File: file, Source: string(source)}
	b.Parts, err = r.parts(b.Source, path.Dir(file), 0)
	return b, err
}

type reader struct {
	files fs.FS
	fetch Fetch
	bytes int
}

// deepest is more than lang accepts, so that lang tells of a circle.
const deepest = 10

func (r *reader) parts(source, dir string, depth int) ([]lang.Bundle, error) {
	if depth > deepest || r.bytes > lang.MaxBundle {
		return nil, nil
	}
	var out []lang.Bundle
	for _, ref := range lang.References([]byte(source)) {
		if lang.CheckRef(ref) != "" {
			continue // told when the template is checked
		}
		if lang.IsTemplateRef(ref) && !lang.IsLocalRef(ref) {
			b, ok, err := r.fetched(ref)
			if err != nil {
				return nil, err
			}
			if ok {
				out = append(out, b)
			}
			continue
		}
		file := path.Join(dir, strings.TrimPrefix(ref, "./"))
		text, err := fs.ReadFile(r.files, file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read %s, which the template embeds: %w", ref, err)
		}
		r.bytes += len(text)
		b := lang.Bundle{Ref: ref, File: file, Source: string(text)}
		if lang.IsTemplateRef(ref) {
			if b.Parts, err = r.parts(b.Source, path.Dir(file), depth+1); err != nil {
				return nil, err
			}
		}
		out = append(out, b)
	}
	return out, nil
}

func (r *reader) fetched(ref string) (lang.Bundle, bool, error) {
	if r.fetch == nil {
		return lang.Bundle{}, false, nil
	}
	b, err := r.fetch(ref)
	if errors.Is(err, ErrUnknown) {
		return b, false, nil
	}
	if err != nil {
		return b, false, fmt.Errorf("find %s: %w", ref, err)
	}
	b.Ref = ref
	r.bytes += b.Size()
	return b, true, nil
}

// Templates lists the template files at the top of a folder. What lies below is
// for them to embed.
func Templates(files fs.FS) ([]string, error) {
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		return nil, fmt.Errorf("list templates: %w", err)
	}
	var out []string
	for _, e := range entries {
		if !e.IsDir() && strings.HasSuffix(e.Name(), Suffix) {
			out = append(out, e.Name())
		}
	}
	return out, nil
}

// Newest finds the newest version that a range allows; an empty range allows
// all. It is -1 when there is none; an error says that the range is none.
func Newest(versions []string, wanted string) (int, error) {
	allowed, err := semver.NewConstraint(cmp.Or(wanted, "*"))
	if err != nil {
		return -1, fmt.Errorf("%q is not a range of versions: %w", wanted, err)
	}
	best := -1
	var newest *semver.Version
	for i, text := range versions {
		v, err := semver.NewVersion(text)
		if err == nil && allowed.Check(v) && (newest == nil || v.GreaterThan(newest)) {
			best, newest = i, v
		}
	}
	return best, nil
}

// FromFolder finds templates of a folder by NAME@RANGE: the newest version that
// the range allows. What it gives is not safe for concurrent use.
func FromFolder(files fs.FS) Fetch {
	f := &folder{files: files, known: map[string]lang.Bundle{}, open: map[string]bool{}}
	return f.fetch
}

// folder keeps what was read, since one template may be embedded many times, and
// what is being read, since none may embed itself.
type folder struct {
	files fs.FS
	known map[string]lang.Bundle
	open  map[string]bool
}

func (f *folder) fetch(ref string) (lang.Bundle, error) {
	if b, ok := f.known[ref]; ok {
		return b, nil
	}
	name, wanted, _ := strings.Cut(ref, "@")
	file, version, err := f.newest(name, wanted)
	if err != nil {
		return lang.Bundle{}, err
	}
	if f.open[file] {
		return lang.Bundle{}, fmt.Errorf("template %s embeds itself through %s", name, file)
	}
	f.open[file] = true
	defer delete(f.open, file)
	b, err := Read(f.files, file, f.fetch)
	if err != nil {
		return b, err
	}
	if n := b.Size(); n > lang.MaxBundle {
		return b, fmt.Errorf("template %s has %d bytes with all it embeds, and at most %d are read", name, n,
			lang.MaxBundle)
	}
	b.File = name + "@" + version
	f.known[ref] = b
	return b, nil
}

// newest finds the file of a template's newest version within a range.
func (f *folder) newest(name, wanted string) (file, version string, err error) {
	list, err := Templates(f.files)
	if err != nil {
		return "", "", err
	}
	var candidates, versions []string
	for _, file := range list {
		source, err := fs.ReadFile(f.files, file)
		if err != nil {
			return "", "", fmt.Errorf("read template: %w", err)
		}
		if about := lang.AboutOf(source); about.Name == name {
			candidates, versions = append(candidates, file), append(versions, about.Version)
		}
	}
	i, err := Newest(versions, wanted)
	if err != nil || i < 0 {
		return "", "", fmt.Errorf("%s@%s: %w", name, wanted, ErrUnknown)
	}
	return candidates[i], versions[i], nil
}
