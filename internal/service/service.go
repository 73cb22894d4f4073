// Package service holds the use cases: one method for each thing a user can do,
// with its authorisation and its rules. It knows neither HTTP nor terminals.
package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/cloud/registry"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/engine"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// Service is safe for concurrent use.
type Service struct {
	store  *store.Store
	box    *secret.Box
	engine *engine.Engine
	log    *slog.Logger

	localLibraries []string
	auditKey       []byte

	mu       sync.Mutex
	adapters map[string]cached
	tries    map[string][]time.Time // failed sign-ins by user name
	// offers are those that were read last; whoever has them changes nothing.
	offers     map[place]*offer.Offers
	refreshing map[place]bool
	asking     map[string]*asking // by user and form
	lately     lately
	// compiled are the organisation's rules, of the versions that compiledOf names.
	compiled   *policy.Rules
	compiledOf string
}

// cached is an adapter with the account row it was made from.
type cached struct {
	adapter cloud.Adapter
	sealed  string
}

// New wires a service and its engine together. The engine is not started.
func New(st *store.Store, box *secret.Box, log *slog.Logger, c engine.Config) (*Service, error) {
	s := &Service{store: st, box: box, log: log, adapters: map[string]cached{}, tries: map[string][]time.Time{}, offers: map[place]*offer.Offers{}, refreshing: map[place]bool{}, asking: map[string]*asking{}}
	c.Store, c.Box, c.Log, c.Adapter, c.Undo = st, box, log, s.bareAdapter, s.undoFailed
	var err error
	s.engine, err = engine.New(c)
	return s, err
}

// Metrics are those of the engine and of the calls to clouds.
func (s *Service) Metrics() *engine.Metrics { return s.engine.Metrics }

// Engine is the engine that carries out the runs.
func (s *Service) Engine() *engine.Engine { return s.engine }

// OpenFolders lets libraries be read from folders of this machine. Call it
// before the service is used.
func (s *Service) OpenFolders(folders ...string) { s.localLibraries = folders }

// Ready reports whether the service can do its work now.
func (s *Service) Ready(ctx context.Context) error { return s.store.Pool.Ping(ctx) }

// Kind classifies an error of a use case.
type Kind string

// The kinds of errors.
const (
	Invalid         Kind = "invalid"
	NotFound        Kind = "not-found"
	Conflict        Kind = "conflict"
	Stale           Kind = "stale"
	Unauthenticated Kind = "not-signed-in"
	Forbidden       Kind = "not-allowed"
	Findings        Kind = "findings"
	CloudRefused    Kind = "cloud"
	TooMany         Kind = "too-many-tries"
	Consent         Kind = "consent" // a person must agree to something by name
)

// Error is what a use case says when it does not do what was asked.
type Error struct {
	Kind        Kind
	Title       string
	Remedy      string
	Findings    []render.Finding
	Diagnostics lang.Diagnostics
}

func (e *Error) Error() string { return e.Title }

func refuse(kind Kind, remedy, format string, args ...any) *Error {
	return &Error{Kind: kind, Title: fmt.Sprintf(format, args...), Remedy: remedy}
}

// missing turns the store's not-found into words.
func missing(err error, what, name, remedy string) error {
	if errors.Is(err, store.ErrNotFound) {
		return refuse(NotFound, remedy, "there is no %s %s", what, name)
	}
	return err
}

// unknown says that there is nothing of a name among what there is, with the name that
// was probably meant.
func unknown[T any](what, name string, there []T, of func(T) string, otherwise string) error {
	names := make([]string, len(there))
	for i, x := range there {
		names[i] = of(x)
	}
	return refuse(NotFound, expr.Suggest(name, names, otherwise), "there is no %s %q", what, name)
}

// User is who asks.
type User struct {
	ID       int64  `json:"-"`
	Name     string `json:"name"`
	FullName string `json:"full_name"`
	Role     string `json:"role"`
	// May are what the role includes, beside reading; whoever asks who they are is told.
	May []string `json:"may,omitempty"`
}

// rights are what roles include beside reading, which everybody may.
var rights = map[string][]string{
	"admin":    {"administer", "operate", "decide", "publish"},
	"operator": {"operate", "decide"},
	"reviewer": {"decide"},
	"keeper":   {"publish"},
}

// Rights lists what a role includes, beside reading.
func (u User) Rights() []string { return rights[u.Role] }

// may reports whether a role includes an action.
func (u User) may(action string) bool { return slices.Contains(rights[u.Role], action) }

func (u User) must(action string) error {
	if !u.may(action) {
		return refuse(Forbidden, "ask an administrator for another role", "the role %s does not include this", u.Role)
	}
	return nil
}

// SessionLife is how long a console session lasts.
const SessionLife = 12 * time.Hour

const (
	bearerLife  = 365 * 24 * time.Hour
	triesMost   = 8
	triesWithin = 5 * time.Minute
)

// SignIn checks a password and gives a session token. After eight wrong tries
// in five minutes a name has to wait.
func (s *Service) SignIn(ctx context.Context, name, password string) (User, string, error) {
	if s.tooMany(name) {
		return User{}, "", refuse(TooMany, "wait five minutes", "too many wrong tries for this name")
	}
	u, err := s.store.UserByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return User{}, "", err
	}
	if !secret.CheckPassword(u.PasswordHash, password) {
		s.mu.Lock()
		s.tries[name] = append(s.tries[name], time.Now())
		s.mu.Unlock()
		if err := s.record(ctx, clip(name, 100), "sign in", "", "", map[string]any{"refused": true}); err != nil {
			return User{}, "", err
		}
		return User{}, "", refuse(Unauthenticated, "check both and try again", "the name or the password is not right")
	}
	token := secret.Token()
	if err := s.store.AddToken(ctx, secret.HashToken(token), u.ID, "session", "console", SessionLife); err != nil {
		return User{}, "", err
	}
	if err := s.record(ctx, u.Name, "sign in", "", "", nil); err != nil {
		return User{}, "", err
	}
	return userOf(u), token, nil
}

func (s *Service) tooMany(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	var recent []time.Time
	for _, at := range s.tries[name] {
		if time.Since(at) < triesWithin {
			recent = append(recent, at)
		}
	}
	s.tries[name] = recent
	if len(s.tries) > 10_000 { // names are anybody's choice: do not keep them for ever
		clear(s.tries)
	}
	return len(recent) >= triesMost
}

// clip shortens what anybody may choose before it is kept.
func clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "..."
	}
	return text
}

func userOf(u store.User) User {
	return User{ID: u.ID, Name: u.Name, FullName: u.FullName, Role: u.Role}
}

// ByToken finds who a bearer or session token belongs to.
func (s *Service) ByToken(ctx context.Context, token string) (User, error) {
	u, err := s.store.UserByToken(ctx, secret.HashToken(token))
	if errors.Is(err, store.ErrNotFound) {
		return User{}, refuse(Unauthenticated, "sign in again", "the token is unknown or over")
	}
	return userOf(u), err
}

// SignOut ends a token.
func (s *Service) SignOut(ctx context.Context, token string) error {
	return s.store.RemoveToken(ctx, secret.HashToken(token))
}

// operatorOfHost is who runs the service, in the audit.
const operatorOfHost = "(the service's operator)"

// PutUser makes or changes a user; only whoever runs the service may call it.
func (s *Service) PutUser(ctx context.Context, name, fullName, role, password string) error {
	if err := s.store.PutUser(ctx, store.User{Name: name, FullName: fullName, Role: role, PasswordHash: secret.HashPassword(password)}); err != nil {
		return err
	}
	return s.record(ctx, operatorOfHost, "put user", name, "", map[string]any{"role": role})
}

// IssueToken gives a bearer token to a user.
func (s *Service) IssueToken(ctx context.Context, name, about string) (string, error) {
	u, err := s.store.UserByName(ctx, name)
	if err != nil {
		return "", missing(err, "user", name, "")
	}
	token := secret.Token()
	if err := s.store.AddToken(ctx, secret.HashToken(token), u.ID, "bearer", about, bearerLife); err != nil {
		return "", err
	}
	return token, s.record(ctx, operatorOfHost, "issue token", name, "", map[string]any{"about": about})
}

// adapter gives the adapter of an account for asking: it tries again for a while
// when the cloud is busy.
func (s *Service) adapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	adapter, a, err := s.bareAdapter(ctx, name)
	if err != nil {
		return nil, a, err
	}
	return cloud.Patient(adapter), a, nil
}

// bareAdapter gives the adapter of an account, the same one until its credentials change.
func (s *Service) bareAdapter(ctx context.Context, name string) (cloud.Adapter, store.Account, error) {
	a, err := s.account(ctx, name)
	if err != nil {
		return nil, a, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if c, ok := s.adapters[name]; ok && c.sealed == string(a.Credentials) {
		return c.adapter, a, nil
	}
	adapter, err := s.connect(a)
	if err != nil {
		return nil, a, err
	}
	s.adapters[name] = cached{adapter, string(a.Credentials)}
	return adapter, a, nil
}

func (s *Service) connect(a store.Account) (cloud.Adapter, error) {
	if err := isOpen(a); err != nil {
		return nil, err
	}
	credentials, err := s.credentials(a)
	if err != nil {
		return nil, err
	}
	adapter, err := registry.Open(a.Cloud, a.Endpoint, credentials, s.engine.Client(a.Name))
	if err != nil {
		return nil, refuse(Invalid, "the clouds are: "+strings.Join(registry.Names(), ", "), "%v", err)
	}
	return adapter, nil
}

// credentials opens those of an account. They open only beside the cloud and endpoint
// that they were given for.
func (s *Service) credentials(a store.Account) (credentials map[string]string, err error) {
	plain, err := s.box.Open(purposeOf(a), a.Credentials)
	if errors.Is(err, secret.ErrMoved) {
		return nil, refuse(Conflict, "give them again: undersail accounts renew "+a.Name, "the credentials of account %s were not given for cloud %s at %s: somebody changed the record", a.Name, a.Cloud, a.Endpoint)
	}
	if err != nil {
		return nil, fmt.Errorf("credentials of account %s: %w", a.Name, err)
	}
	if err := json.Unmarshal(plain, &credentials); err != nil {
		return nil, fmt.Errorf("credentials of account %s cannot be read: %w", a.Name, err)
	}
	return credentials, nil
}

// cloudSays turns an adapter's error into one of a use case.
func cloudSays(err error) error {
	var e *cloud.Error
	if errors.As(err, &e) {
		return refuse(CloudRefused, e.Remedy, "%v", err)
	}
	return err
}

func newID() string {
	b := make([]byte, 16)
	rand.Read(b)
	b[6], b[8] = b[6]&0x0f|0x40, b[8]&0x3f|0x80 // version 4, RFC 9562
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// splitVersion reads NAME or NAME@VERSION.
func splitVersion(s string) (name, version string) {
	name, version, _ = strings.Cut(s, "@")
	return name, version
}

// NewPassword draws a password for a user who is made by a program.
func NewPassword() string {
	b := make([]byte, 9)
	rand.Read(b)
	return fmt.Sprintf("%x", b)
}
