// Package cloud is the contract between the engine and a public cloud. An
// [Adapter] speaks one cloud's protocol; everything above it sees the neutral
// resource types of core/resource and classified errors.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/offer"
)

// Phase is where a resource is in its life, as the cloud tells it.
type Phase string

// The phases. A ready resource exists; whether it is healthy is for the checks.
const (
	Making   Phase = "making"
	Ready    Phase = "ready"
	Broken   Phase = "broken"
	Removing Phase = "removing"
)

// Identity is who the credentials belong to.
type Identity struct {
	Account string
	Roles   []string
	Regions []string
	// Ends is when the credentials end; zero when they do not.
	Ends time.Time
	// ClockRate is how many cloud seconds pass in a real one: 1 on real clouds.
	ClockRate float64
	// GuestRange is where probes may go; empty means anywhere public.
	GuestRange string
}

// Request asks for one resource. The token is stored before the call; the same
// token always means the same resource. Want holds neutral properties with every
// value known, secrets included.
type Request struct {
	Region string
	Type   string
	Token  string
	Want   map[string]any
	Tags   map[string]string
}

// Ref names a resource that was created under a token.
type Ref struct {
	Region string
	Type   string
	Token  string
}

// Live is a resource as the cloud reports it. Attributes hold reported
// attributes and the properties that the cloud filled in.
type Live struct {
	Type       string
	Token      string
	ID         string
	Name       string
	Region     string
	Phase      Phase
	Why        string // of a broken one
	Attributes map[string]any
	Tags       map[string]string
	// ReadyIn is the cloud's own guess in cloud seconds; 0 when it has none.
	ReadyIn float64
}

// Query says which resources are meant: by id, by name, or by all of the tags.
type Query struct {
	Region, Type, ID, Name string
	Tags                   map[string]string
}

// String says what is looked for.
func (q Query) String() string {
	switch {
	case q.ID != "":
		return "id " + q.ID
	case q.Name != "":
		return fmt.Sprintf("name %q", q.Name)
	}
	words := []string{}
	for _, k := range slices.Sorted(maps.Keys(q.Tags)) {
		words = append(words, k+"="+q.Tags[k])
	}
	return "tags " + strings.Join(words, ", ")
}

// Matches reports whether a resource is meant.
func (q Query) Matches(l Live) bool {
	switch {
	case l.Type != q.Type || l.Phase != Ready:
		return false
	case q.ID != "":
		return l.ID == q.ID
	case q.Name != "":
		return l.Name == q.Name
	}
	for k, v := range q.Tags {
		if l.Tags[k] != v {
			return false
		}
	}
	return len(q.Tags) > 0
}

// Adapter speaks to one account of one cloud. It is safe for concurrent use.
// Every error is an [*Error] or wraps one.
type Adapter interface {
	WhoAmI(ctx context.Context) (Identity, error)
	Offers(ctx context.Context, region string) (offer.Offers, error)
	// Create makes a resource, or finds the one made under the same token.
	Create(ctx context.Context, r Request) (Live, error)
	// Read looks at a resource; an error of class Gone says that it is not there.
	Read(ctx context.Context, ref Ref) (Live, error)
	// Change alters properties of a resource that is ready.
	Change(ctx context.Context, ref Ref, changes map[string]any) (Live, error)
	// Remove begins removal. Read tells when it is over.
	Remove(ctx context.Context, ref Ref) error
	// Find finds resources of one type that exist, whoever made them.
	Find(ctx context.Context, q Query) ([]Live, error)
	// List finds the resources of a region that carry a tag.
	List(ctx context.Context, region, tag, value string) ([]Live, error)
}

// Class is the kind of an error, which decides what to do about it.
type Class string

// The classes.
const (
	Throttled      Class = "throttled"       // wait until RetryAfter
	Transient      Class = "transient"       // nothing happened; try again
	UnknownOutcome Class = "unknown outcome" // the answer was lost; look before calling again
	NotYetVisible  Class = "not yet visible"
	Conflict       Class = "conflict"
	InUse          Class = "in use"
	Quota          Class = "quota"
	Capacity       Class = "capacity"
	Denied         Class = "denied"
	Invalid        Class = "invalid"
	Gone           Class = "gone"
	SignIn         Class = "sign-in" // the credentials are not accepted (any more)
)

// Error is a cloud's refusal, classified.
type Error struct {
	Class   Class
	Message string
	// Remedy says what a person can do about it.
	Remedy string
	// RetryAfter is in real time.
	RetryAfter time.Duration
	// Property is what an Invalid error is about, in neutral words.
	Property string
	// Missing is by how many a Quota is short, Zones where there is Capacity.
	Missing int64
	Zones   []string
	Cause   error
}

// Error joins class, message and remedy.
func (e *Error) Error() string {
	s := fmt.Sprintf("%s: %s", e.Class, e.Message)
	if e.Remedy != "" {
		s += "; " + e.Remedy
	}
	return s
}

// Unwrap gives the cause.
func (e *Error) Unwrap() error { return e.Cause }

// ClassOf finds the class of an error; what is not classified is Transient.
func ClassOf(err error) Class {
	var e *Error
	if errors.As(err, &e) {
		return e.Class
	}
	return Transient
}

// Passing reports whether a later try may succeed without anybody's help.
func (c Class) Passing() bool {
	switch c {
	case Throttled, Transient, UnknownOutcome, NotYetVisible, Conflict, InUse:
		return true
	}
	return false
}

// Tags that every resource carries, so that takeover, drift and leftovers can
// find it.
const (
	TagStack    = "undersail-stack"
	TagStackID  = "undersail-stack-id"
	TagResource = "undersail-resource"
)
