package templates

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/library"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// NewLibrary is what a library is added with: a folder, or the URL of a git
// repository with a branch, tag or commit and a folder within it.
type NewLibrary struct {
	Name      string `json:"name"`
	Place     string `json:"place"`
	Reference string `json:"reference,omitempty"`
	Folder    string `json:"folder,omitempty"`
	// User and Token sign in to the repository; they are sealed and never shown.
	User  string `json:"user,omitempty"`
	Token string `json:"token,omitempty"`
}

// Library is a library with what its last reading gave.
type Library struct {
	Name        string            `json:"name"`
	Place       string            `json:"place"`
	Reference   string            `json:"reference,omitempty"`
	Folder      string            `json:"folder,omitempty"`
	Revision    string            `json:"revision"`
	Problem     string            `json:"problem,omitempty"`
	RefreshedAt *time.Time        `json:"refreshed_at,omitempty"`
	Templates   []LibraryTemplate `json:"templates"`
}

// LibraryTemplate is one template file of a library: published now, known
// already, or not published for a problem.
type LibraryTemplate struct {
	File    string `json:"file"`
	Name    string `json:"name,omitempty"`
	Version string `json:"version,omitempty"`
	State   string `json:"state"`
	Problem string `json:"problem,omitempty"`
}

var libraryName = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// Libraries lists the libraries.
func (s *Templates) Libraries(ctx context.Context) ([]Library, error) {
	list, err := s.store.Libraries(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the libraries: %w", err)
	}
	out := make([]Library, len(list))
	for i, l := range list {
		out[i] = libraryOf(l)
	}
	return out, nil
}

func libraryOf(l store.Library) Library {
	return Library{l.Name, l.Place, l.Reference, l.Folder, l.Revision, l.Problem, l.RefreshedAt, []LibraryTemplate{}}
}

// AddLibrary reads a library and keeps it.
func (s *Templates) AddLibrary(ctx context.Context, u people.User, n NewLibrary) (Library, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return Library{}, err
	}
	if !libraryName.MatchString(n.Name) || n.Place == "" {
		return Library{}, refusal.New(refusal.Invalid,
			"use small letters, digits and hyphens, and name a folder or a URL", "%q is not a name for a library",
			n.Name)
	}
	if library.IsURL(n.Place) {
		if err := library.CheckURL(n.Place); err != nil {
			return Library{}, refusal.New(refusal.Invalid, "see: undersail libraries add --help", "%v", err)
		}
	}
	l := store.Library{Name: n.Name, Place: n.Place, Reference: n.Reference, Folder: n.Folder}
	if n.Token != "" {
		if err := s.sealed.Library(&l, libraryCredentials{n.User, n.Token}); err != nil {
			return Library{}, fmt.Errorf("sealing what opens the library: %w", err)
		}
	}
	if _, _, err := s.openLibrary(ctx, l); err != nil {
		return Library{}, refusal.New(refusal.Invalid, "check the place, the reference and the folder",
			"the library cannot be read: %v", err)
	}
	if err := s.store.PutLibrary(ctx, l); err != nil {
		return Library{}, fmt.Errorf("keeping the library: %w", err)
	}
	s.journal.Done(ctx, u, "add library", n.Name, map[string]any{
		"place":     n.Place,
		"reference": n.Reference,
		"folder":    n.Folder,
	})
	return s.RefreshLibrary(ctx, u, n.Name)
}

// libraryCredentials are what is sealed of a library.
type libraryCredentials struct {
	User  string `json:"user"`
	Token string `json:"token"`
}

func (s *Templates) openLibrary(ctx context.Context, l store.Library) (fs.FS, string, error) {
	place := library.Place{At: l.Place, Reference: l.Reference, Folder: l.Folder}
	if len(l.Credentials) > 0 {
		var c libraryCredentials
		if err := s.sealed.OpenLibrary(l, &c); err != nil {
			return nil, "", fmt.Errorf("opening the library: %w", err)
		}
		place.User, place.Token = c.User, c.Token
	}
	return library.Open(ctx, place, s.engine.Reach, s.localLibraries...)
}

// RefreshLibrary reads a library again and publishes the versions that are new.
// A version that was published before keeps its bytes: other bytes under it are
// told as a problem.
func (s *Templates) RefreshLibrary(ctx context.Context, u people.User, name string) (Library, error) {
	if err := u.Must(access.Publish, ""); err != nil {
		return Library{}, err
	}
	l, err := s.store.Library(ctx, name)
	if err != nil {
		return Library{}, refusal.Missing(err, "library", name, "list them with: undersail libraries")
	}
	files, revision, err := s.openLibrary(ctx, l)
	if err != nil {
		if noted := s.store.LibraryRead(ctx, name, l.Revision, err.Error()); noted != nil {
			return Library{}, noted
		}
		return Library{}, refusal.New(refusal.Invalid, "check the place, the reference and the folder",
			"library %s cannot be read: %v", name, err)
	}
	list, err := library.Templates(files)
	if err != nil {
		return Library{}, refusal.New(refusal.Invalid, "check the place and the folder",
			"library %s cannot be read: %v", name, err)
	}
	origin := name
	if revision != "" {
		origin = fmt.Sprintf("%s at %.12s", name, revision)
	}
	templates := []LibraryTemplate{}
	problem := ""
	for _, file := range list {
		t, err := s.publishFile(ctx, files, file, origin)
		if err != nil {
			return Library{}, err
		}
		if t.Problem != "" {
			problem = fmt.Sprintf("%s: %s", file, t.Problem)
		}
		templates = append(templates, t)
	}
	if len(list) == 0 {
		problem = "there is no file *" + library.Suffix + " at its top"
	}
	if err := s.store.LibraryRead(ctx, name, revision, problem); err != nil {
		return Library{}, fmt.Errorf("noting that the library was read: %s: %w", name, err)
	}
	if l, err = s.store.Library(ctx, name); err != nil {
		return Library{}, fmt.Errorf("reading the library %s: %w", name, err)
	}
	out := libraryOf(l)
	out.Templates = templates
	return out, nil
}

// publishFile publishes one file of a library. What is wrong with the file is
// its problem; an error is one of the service.
func (s *Templates) publishFile(ctx context.Context, files fs.FS, file, origin string) (LibraryTemplate, error) {
	out := LibraryTemplate{File: file}
	b, err := library.Read(files, file, s.fetchBeside(ctx, files))
	if err != nil {
		out.State, out.Problem = "unreadable", err.Error()
		return out, nil
	}
	about := lang.AboutOf([]byte(b.Source))
	out.Name, out.Version = about.Name, about.Version
	known, err := s.store.Templates(ctx, about.Name)
	if err != nil {
		return out, fmt.Errorf("reading the versions of template %s: %w", about.Name, err)
	}
	out.State = "published"
	for _, k := range known {
		if k.Version == about.Version {
			out.State = "known"
		}
	}
	_, _, err = s.publishBundle(ctx, b, origin, "library "+strings.SplitN(origin, " ", 2)[0])
	if problem, refused := refusalLine(err); refused {
		out.State, out.Problem = "refused", problem
		return out, nil
	}
	if err == nil {
		out.Problem, err = s.casesBeside(ctx, files, file, out)
	}
	return out, err
}

// refusalLine puts what a text was refused for into a line, with its place.
func refusalLine(err error) (string, bool) {
	var refused *refusal.Error
	if !errors.As(err, &refused) {
		return "", false
	}
	if len(refused.Diagnostics) > 0 {
		d := refused.Diagnostics[0]
		return fmt.Sprintf("%s:%d:%d: %s", d.File, d.Line, d.Column, d.Message), true
	}
	return refused.Title, true
}

// fetchBeside finds what a template embeds: in its own library, else among what
// is published.
func (s *Templates) fetchBeside(ctx context.Context, files fs.FS) library.Fetch {
	beside := library.FromFolder(files)
	return func(ref string) (lang.Bundle, error) {
		b, err := beside(ref)
		if !errors.Is(err, library.ErrUnknown) {
			return b, err
		}
		t, publishedErr := s.Find(ctx, ref)
		var refused *refusal.Error
		if errors.As(publishedErr, &refused) {
			return b, err // nobody has it
		}
		return t.Bundle(), publishedErr
	}
}

// Versions lists every version of a template, newest first.
func (s *Templates) Versions(ctx context.Context, name string) ([]Template, error) {
	all, err := s.store.Templates(ctx, name)
	if err != nil {
		return nil, fmt.Errorf("reading the versions of template %s: %w", name, err)
	}
	if len(all) == 0 {
		return nil, refusal.New(refusal.NotFound, "list them with: undersail templates", "there is no template %s",
			name)
	}
	out := make([]Template, len(all))
	for i, t := range all {
		out[i] = templateOf(t)
	}
	sortNewestFirst(out)
	return out, nil
}

// casesBeside keeps the cases that a library has beside a template file, and tells what
// is wrong with them.
func (s *Templates) casesBeside(ctx context.Context, files fs.FS, file string, t LibraryTemplate) (string, error) {
	c, err := library.ReadCases(files, file)
	if c == nil || err != nil {
		if err != nil {
			return err.Error(), nil
		}
		return "", nil
	}
	published, err := s.Find(ctx, t.Name+"@"+t.Version)
	if err != nil {
		return "", err
	}
	runs, err := s.saveCases(ctx, published, *c)
	if problem, refused := refusalLine(err); refused {
		return "its cases: " + problem, nil
	}
	if err != nil {
		return "", err
	}
	for _, x := range runs.Cases {
		if len(x.Failures) > 0 {
			return fmt.Sprintf("case %q fails: %s", x.Name, x.Failures[0].Message), nil
		}
	}
	return "", nil
}
