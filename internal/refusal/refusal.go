// Package refusal is how a use case says that it does not do what was asked: what is wrong,
// and what helps.
package refusal

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/store"
)

// Kind classifies a refusal.
type Kind string

// The kinds of refusals.
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
	Waiting         Kind = "waiting" // for a person elsewhere
	TooMuch         Kind = "too-much"
)

// Error is what a use case says when it does not do what was asked.
type Error struct {
	Kind        Kind
	Title       string
	Remedy      string
	Findings    []render.Finding
	Diagnostics lang.Diagnostics
	RetryAfter  int // seconds; 0 is not said
}

func (e *Error) Error() string { return e.Title }

// New is a refusal with what helps, and a title as [fmt.Sprintf] writes it.
func New(kind Kind, remedy, format string, args ...any) *Error {
	return &Error{Kind: kind, Title: fmt.Sprintf(format, args...), Remedy: remedy}
}

// Wait is a refusal that says when to come again.
func Wait(wait time.Duration, why string) error {
	seconds := int(math.Ceil(wait.Seconds()))
	e := New(TooMany, fmt.Sprintf("wait %d seconds", seconds), "%s", why)
	e.RetryAfter = seconds
	return e
}

// Missing turns the store's not-found into words.
func Missing(err error, what, name, remedy string) error {
	if errors.Is(err, store.ErrNotFound) {
		return New(NotFound, remedy, "there is no %s %s", what, name)
	}
	return err
}

// Unknown says that there is nothing of a name among what there is, with the name that
// was probably meant.
func Unknown[T any](what, name string, there []T, of func(T) string, otherwise string) error {
	names := make([]string, len(there))
	for i, x := range there {
		names[i] = of(x)
	}
	return New(NotFound, expr.Suggest(name, names, otherwise), "there is no %s %q", what, name)
}

// Clip shortens what anybody may choose before it is told or kept.
func Clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most]) + "..."
	}
	return text
}

// Few is the beginning of a list, with how many more there are.
func Few(list []string, n int) []string {
	if len(list) > n {
		return append(slices.Clone(list[:n]), fmt.Sprintf("and %d more", len(list)-n))
	}
	return list
}
