package servicetest

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"undersail/internal/people"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
)

// Two who may less than the rig's administrator.
var (
	Operator = people.User{Name: "tomas", Roles: []string{"operator"}}
	Viewer   = people.User{Name: "oda", Roles: []string{"viewer"}}
)

// WantKind is an error of the test unless an error is a refusal of a kind that says something.
func WantKind(t *testing.T, err error, kind refusal.Kind, says string) {
	t.Helper()
	var e *refusal.Error
	if !errors.As(err, &e) || e.Kind != kind || !strings.Contains(e.Title+" "+e.Remedy, says) {
		t.Errorf("error %v, want %s with %q", err, kind, says)
	}
}

// Kind is the kind of a refusal.
func Kind(err error) refusal.Kind {
	var e *refusal.Error
	if errors.As(err, &e) {
		return e.Kind
	}
	return ""
}

// Query does what only the owner of the database can do.
func Query(t *testing.T, r *Rig, sql string, args ...any) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), postgrestest.AsAdmin(r.DatabaseURL))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if _, err := conn.Exec(context.Background(), sql, args...); err != nil {
		t.Fatal(err)
	}
}

// ConsentNames are the consents that a proposal asks for.
func ConsentNames(p proposing.Proposal) (names []string) {
	for _, c := range p.Consents {
		names = append(names, c.Name)
	}
	return names
}

// Example is the text of one of the shipped templates.
func Example(t *testing.T, name string) string {
	t.Helper()
	source, err := os.ReadFile(filepath.Join("..", "..", "examples", name+".sail.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	return string(source)
}

// Attributes are what a resource of a stack reports.
func Attributes(t *testing.T, s *service.Service, stack, name string) map[string]any {
	t.Helper()
	st, err := s.Stacks.Show(context.Background(), stack)
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range st.Resources {
		if r.Name == name {
			return r.Attributes
		}
	}
	t.Fatalf("stack %s has no %s", stack, name)
	return nil
}

// Failing lists the checks of a verification that did not pass, with what was answered.
func Failing(t *testing.T, s *service.Service, r *Rig, stack string) []string {
	t.Helper()
	v, err := s.Stacks.Verify(context.Background(), r.Admin, stack)
	if err != nil {
		t.Fatal(err)
	}
	out := []string{}
	for _, x := range v.Resources {
		for _, e := range x.Evidence {
			if !e.Passed {
				out = append(out, x.Name+": "+e.Asked+": "+e.Answer)
			}
		}
	}
	return out
}

// Vault is a template whose secrets are given, drawn and shown in part.
const Vault = `undersail: 1
about: {name: vault, version: 1.0.0, title: Vault}
inputs:
  word: {secret: true, generate: true}
  note: {type: string, default: a}
  to: {type: string, default: 127.64.9.9}
resources:
  net: {type: network, want: {range: 10.81.0.0/24}}
  lan: {type: subnet, want: {network: =net.id, range: 10.81.0.0/25}}
  box:
    type: instance
    repeat: 1
    want: {size: plain-1, image: debian-12, subnet: =lan.id, user_data: {write_files: [{path: /etc/word, content: ="word " + inputs.word}]}}
outputs: {word: {value: =inputs.word, about: W}, note: {value: =inputs.note, about: N}}
`
