// Package cloud is the contract between the engine and a public cloud. An
// [Adapter] speaks one cloud's protocol; everything above it sees the neutral
// resource types of core/resource and classified errors.
package cloud

import (
	"context"
	"errors"
	"fmt"
	"iter"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"syscall"
	"time"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
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
	// Makes are the types of resources that the rights let it make; nil when the cloud
	// does not tell.
	Makes []string
	// Ends is when the credentials end; zero when they do not.
	Ends time.Time
	// ClockRate is how many cloud seconds pass in a real one: 1 on real clouds.
	ClockRate float64
	// GuestRange is where probes may go; empty means anywhere public.
	GuestRange string
	// NameServer is where the cloud's own name server is asked, as host:port; empty where
	// its names are everybody's.
	NameServer string
}

// Action is what a task does with one resource.
type Action string

// The actions.
const (
	Create Action = "create"
	Alter  Action = "alter"
	Remove Action = "remove"
)

// Part is one thing in the cloud that a neutral resource is made of: an instance
// may be ports, a server and attachments. It is committed with Sent before the
// call that makes it, so that whoever comes next looks for its mark before
// calling again.
type Part struct {
	Kind string `json:"kind"`
	ID   string `json:"id,omitempty"`
	// Mark is how the part is found without its id.
	Mark string `json:"mark"`
	// Version guards conditional changes: an ETag, revision or generation.
	Version string `json:"version,omitempty"`
	// Sent is when the creating call was about to be made, zero before. Whoever
	// commits the part sets it, by the clock that it is judged by later.
	Sent time.Time `json:"sent,omitzero"`
	// Seen says that the cloud has told of the part.
	Seen bool `json:"seen,omitempty"`
}

// Ref names a resource: the token that was drawn by the step that made it and is
// its own for life, and the parts known of it.
type Ref struct {
	Region string
	Type   string
	Token  string
	Parts  []Part
}

// Part finds a part by its kind and mark, or gives nil.
func (r Ref) Part(kind, mark string) *Part {
	for i := range r.Parts {
		if r.Parts[i].Kind == kind && r.Parts[i].Mark == mark {
			return &r.Parts[i]
		}
	}
	return nil
}

// With gives a copy of the reference in which a part is as given.
func (r Ref) With(p Part) Ref {
	r.Parts = slices.Clone(r.Parts)
	if old := r.Part(p.Kind, p.Mark); old != nil {
		*old = p
	} else {
		r.Parts = append(r.Parts, p)
	}
	return r
}

// Unsure reports whether a call was made for a part that nobody has seen.
func (r Ref) Unsure() bool {
	return slices.ContainsFunc(r.Parts, func(p Part) bool { return !p.Sent.IsZero() && !p.Seen })
}

// Settle judges the parts that a look did not find: within the time that a fresh
// thing may be unseen nothing is known (wait until then); after it they are proved
// absent, and may be made again.
func (r Ref) Settle(now time.Time, visibility time.Duration) (_ Ref, until time.Time) {
	r.Parts = slices.Clone(r.Parts)
	for i, p := range r.Parts {
		if p.Sent.IsZero() || p.Seen {
			continue
		}
		if at := p.Sent.Add(visibility); now.Before(at) {
			if at.After(until) {
				until = at
			}
			continue
		}
		r.Parts[i].Sent, r.Parts[i].ID = time.Time{}, ""
	}
	return r, until
}

// Task is what is to be done with one resource. Want holds neutral properties
// with every value known, secrets included: all of them for a creation, those
// that change for an alteration. Unset names properties to take away. Tags are
// ours and the wanted ones together; nil leaves them as they are.
type Task struct {
	Action Action
	Ref    Ref
	Want   map[string]any
	Before map[string]any
	Unset  []string
	Tags   map[string]string
}

// Presence is whether a cloud has a resource.
type Presence string

// A resource that is not found may still be one that nobody can see yet; see
// [Ref.Settle].
const (
	Present Presence = "present"
	Absent  Presence = "absent"
)

// Live is a resource as the cloud reports it. Attributes hold reported
// attributes; Has the neutral properties as the cloud has them, as far as it
// tells them.
type Live struct {
	Ref
	ID         string
	Name       string
	Phase      Phase
	Why        string // of a broken one
	Attributes map[string]any
	Has        map[string]any
	Tags       map[string]string
	// ReadyIn is the cloud's own guess in cloud seconds; 0 when it has none.
	ReadyIn float64
	// Maker is the id of the resource that made it by itself, such as the pool of a
	// member, or who else did; empty where the cloud does not tell. MadeAt is when, zero where
	// it does not tell.
	Maker  string
	MadeAt time.Time
}

// Uses lists the ids of what the resource refers to, as far as the cloud tells it.
func (l Live) Uses() []string {
	var ids []string
	t, _ := resource.ByName(l.Type)
	t.References(l.Has, func(_ resource.Property, id any) {
		if text, ok := id.(string); ok && text != "" && !slices.Contains(ids, text) {
			ids = append(ids, text)
		}
	})
	return ids
}

// Query says which resources are meant: by id, by name, by all of the tags, or by
// using one of some ids. Without a type it means every type.
type Query struct {
	Region, Type, ID, Name string
	Tags                   map[string]string
	Uses                   []string
}

// String says what is looked for.
func (q Query) String() string {
	switch {
	case q.ID != "":
		return "id " + q.ID
	case q.Name != "":
		return fmt.Sprintf("name %q", q.Name)
	case q.Uses != nil:
		return "a use of " + strings.Join(q.Uses, ", ")
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
	case q.Type != "" && l.Type != q.Type:
		return false
	case q.ID != "":
		return l.ID == q.ID
	case q.Name != "":
		return l.Name == q.Name
	case q.Uses != nil:
		return slices.ContainsFunc(l.Uses(), func(id string) bool { return slices.Contains(q.Uses, id) })
	}
	for k, v := range q.Tags {
		if l.Tags[k] != v {
			return false
		}
	}
	return len(q.Tags) > 0
}

// Progress is how far one step of a task came. More says that the task needs
// another step at once; else looking tells when the resource is there or gone.
type Progress struct {
	Live Live
	More bool
}

// Adapter speaks to one account of one cloud. It is safe for concurrent use.
// Every error is an [*Error] or wraps one.
type Adapter interface {
	WhoAmI(ctx context.Context) (Identity, error)
	Offers(ctx context.Context, region string) (offer.Offers, error)
	// Visibility is how long, in cloud seconds, a fresh resource may be found by
	// nobody.
	Visibility() float64
	// Step makes at most one changing call for a task. Before a call that makes a
	// part it calls intend, which commits the part and fails when it cannot; then
	// nothing is called. Nothing is assumed to be idempotent: the caller looks for
	// parts that were sent and not seen before it comes again.
	Step(ctx context.Context, t Task, intend func(Part) error) (Progress, error)
	// Look sees one resource and what became of its parts. What a cloud does not
	// find is Absent and no error.
	Look(ctx context.Context, ref Ref) (Live, Presence, error)
	// Search finds what exists, page by page, whoever made it.
	Search(ctx context.Context, q Query) iter.Seq2[Live, error]
}

// Watcher is an adapter of a cloud that tells of changes by itself. A notice only
// moves the next look forward; it is never the only way to learn something.
type Watcher interface {
	Watch(ctx context.Context, region, cursor string) iter.Seq2[Notice, error]
}

// Accepter is an adapter that can say for the account that it accepts terms.
type Accepter interface {
	AcceptTerms(ctx context.Context, name string) error
}

// Enabler is an adapter that can turn on a feature of a region for the account. Doing it
// twice is no fault.
type Enabler interface {
	TurnOn(ctx context.Context, region, feature string) error
}

// Registrar is an adapter that can tell whether somebody, whoever it is, has a name that
// only one customer of the cloud can have. It gives why it is taken, or nothing.
type Registrar interface {
	Taken(ctx context.Context, region, typeName, name string) (why string, err error)
}

// Logger is an adapter that can tell what a machine wrote to its console since its
// boot, oldest line first. Nil lines say that the cloud does not tell.
type Logger interface {
	Log(ctx context.Context, r Ref) ([]string, error)
}

// Settler is an adapter of a cloud in which an alteration may be on trial. Once the
// resource's checks have passed it is confirmed, else reverted. Of one that is not on
// trial both do nothing. Revert names the properties that it gives back.
type Settler interface {
	Confirm(ctx context.Context, r Ref) error
	Revert(ctx context.Context, r Ref) ([]string, error)
}

// Notice tells that something about a resource changed.
type Notice struct{ Token, ID, Cursor string }

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

// Unanswered classifies a call to somebody that gave no answer: one that cannot have been
// carried out may simply be made again, any other must be looked for. What the transport
// refused before it called stays as it is.
func Unanswered(who, method string, err error) error {
	var known *Error
	if errors.As(err, &known) {
		return known
	}
	var request *url.Error
	if errors.As(err, &request) {
		err = request.Err // without the URL
	}
	class := UnknownOutcome
	if method == http.MethodGet || errors.Is(err, syscall.ECONNREFUSED) {
		class = Transient
	}
	return &Error{Class: class, Message: who + " gave no answer", Cause: err}
}

// ClassOf finds the class of an error; what is not classified is Transient.
func ClassOf(err error) Class {
	var e *Error
	if errors.As(err, &e) {
		return e.Class
	}
	return Transient
}

// Refusal reports whether an error says for sure that the cloud did not carry the
// call out. What is not classified is unknown.
func Refusal(err error) bool {
	var e *Error
	return errors.As(err, &e) && e.Class.Refused()
}

// Refused reports whether the class says that the cloud did not carry the call
// out, so that nothing came of it.
func (c Class) Refused() bool {
	return c != UnknownOutcome && c != NotYetVisible
}

// Passing reports whether a later try may succeed without anybody's help.
func (c Class) Passing() bool {
	switch c {
	case Throttled, Transient, UnknownOutcome, NotYetVisible, Conflict, InUse:
		return true
	case Quota, Capacity, Denied, Invalid, Gone, SignIn:
	}
	return false
}

// Tags that every resource carries, so that takeover, drift and leftovers can
// find it.
const (
	TagPrefix   = "undersail-" // begins all of them
	TagStack    = "undersail-stack"
	TagStackID  = "undersail-stack-id"
	TagResource = "undersail-resource"
)
