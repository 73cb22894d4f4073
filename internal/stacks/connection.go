package stacks

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/crypto/ssh"

	"undersail/internal/access"
	"undersail/internal/core/expr"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/core/use"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// NewConnection asks for a way to a machine of a stack.
type NewConnection struct {
	Resource string `json:"resource,omitempty"` // left out where there is only one machine
	User     string `json:"user,omitempty"`     // that of its image when left out
	Purpose  string `json:"purpose,omitempty"`  // shell, forward, copy or print, for the audit
}

// Connection is a way to a machine: the hops in their order, the machine last. Whoever
// began it may sign in to them until it ends.
type Connection struct {
	ID     string    `json:"id"`
	Stack  string    `json:"stack"`
	Hops   []Hop     `json:"hops"`
	EndsAt time.Time `json:"ends_at"`
}

// Hop is one machine on the way. The private half of its key stays sealed in the
// service, which signs with it.
type Hop struct {
	Resource string `json:"resource"`
	Host     string `json:"host"`
	Port     int    `json:"port"`
	// At is the host:port at which it is really reached; of the first hop only.
	At        string `json:"at"`
	User      string `json:"user"`
	HostKey   string `json:"host_key"`
	PublicKey string `json:"public_key"`
	// Key is the reference of the private half.
	Key string `json:"key"`
}

// connectionLife is how long signing in goes on to be allowed.
const connectionLife = 12 * time.Hour

// Connect begins a connection to a machine. It needs only the right to operate: the key
// itself is not handed over.
func (s *Stacks) Connect(ctx context.Context, u people.User, stack string, n NewConnection) (Connection, error) {
	st, err := s.Living(ctx, stack)
	if err != nil {
		return Connection{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Connection{}, err
	}
	hops, err := s.way(ctx, st, n)
	if err != nil {
		return Connection{}, err
	}
	if err := s.publicOf(ctx, st, hops); err != nil {
		return Connection{}, err
	}
	raw, err := json.Marshal(hops)
	if err != nil {
		return Connection{}, fmt.Errorf("connecting to stack %s: %w", stack, err)
	}
	c := Connection{ID: uuid.NewString(), Stack: stack, Hops: hops}
	last, through := hops[len(hops)-1], ""
	if len(hops) > 1 {
		through = hops[0].Resource
	}
	if err := s.journal.RecordOf(ctx, u, "connect", stack+"/"+last.Resource, "", map[string]any{
		"as":      last.User,
		"purpose": n.Purpose,
		"through": through,
	}); err != nil {
		return Connection{}, fmt.Errorf("recording it in the journal: %w", err)
	}
	c.EndsAt, err = s.store.AddConnection(ctx, store.Connection{ID: c.ID, StackID: st.ID, UserName: u.Name, Hops: raw},
		connectionLife)
	return c, err
}

// machines finds how the machines of a stack are reached.
type machines struct {
	rows      []store.Resource
	rendering *render.Rendering
	users     func(image string) string
	keys      map[string]string // named key pairs that people were agreed to sign in with, by their public halves
}

// way is how a machine is reached: directly, or through another of the stack.
func (s *Stacks) way(ctx context.Context, st store.Stack, n NewConnection) ([]Hop, error) {
	m, err := s.machines(ctx, st)
	if err != nil {
		return nil, err
	}
	hops, err := m.wayTo(st.Name, n.Resource)
	if err == nil && n.User != "" {
		hops[len(hops)-1].User = n.User
	}
	return hops, err
}

// wayTo is how a machine is reached by name.
func (m *machines) wayTo(stack, name string) ([]Hop, error) {
	target, err := m.target(stack, name)
	if err != nil {
		return nil, err
	}
	last, err := m.hop(*target)
	if err != nil {
		return nil, err
	}
	if text(target.Attributes, "public_address") != "" {
		return []Hop{last}, nil
	}
	through := m.bastion(*target)
	if through == nil {
		return nil, refusal.New(refusal.Conflict,
			"give the stack a machine with a public address and a key, or connect from within its network",
			"%s has no public address, and stack %s no machine to go through", target.Name, stack)
	}
	first, err := m.hop(*through)
	if err != nil {
		return nil, err
	}
	last.At = ""
	return []Hop{first, last}, nil
}

func (s *Stacks) machines(ctx context.Context, st store.Stack) (*machines, error) {
	m := &machines{}
	var err error
	if m.rows, err = s.store.Resources(ctx, st.ID); err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", st.ID, err)
	}
	if st.TemplateSource == "" {
		return nil, refusal.New(refusal.Conflict, "apply it first", "stack %s was never applied", st.Name)
	}
	if m.rendering, err = s.rendered(ctx, st, m.rows); err != nil {
		return nil, err
	}
	d, err := s.LastDocument(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	m.users = func(image string) string {
		for _, o := range append(slices.Collect(maps.Values(d.Elsewhere)), &d.Offers) {
			if i, ok := o.Image(image); ok && i.User != "" {
				return i.User
			}
		}
		return ""
	}
	m.keys = agreedKeys(d)
	return m, nil
}

// target finds the machine that is meant.
func (m *machines) target(stack, name string) (*store.Resource, error) {
	var names []string
	var found *store.Resource
	for i, r := range m.rows {
		if !resource.IsMachine(r.Type) {
			continue
		}
		names = append(names, r.Name)
		if r.Name == name || name == "" {
			found = &m.rows[i]
		}
	}
	switch {
	case len(names) == 0:
		return nil, refusal.New(refusal.Conflict, "look at it with: undersail stacks "+stack,
			"stack %s has no machines", stack)
	case name == "" && len(names) > 1:
		return nil, refusal.New(refusal.Invalid, "name one of: "+strings.Join(names, ", "), "stack %s has %d machines",
			stack, len(names))
	case found == nil:
		return nil, refusal.New(refusal.NotFound,
			expr.Suggest(name, names, "its machines are "+strings.Join(names, ", ")), "stack %s has no machine %q",
			stack, name)
	}
	return found, nil
}

// hop is how one machine is signed in to.
func (m *machines) hop(r store.Resource) (Hop, error) {
	h := Hop{
		Resource: r.Name,
		Port:     22,
		Host:     text(r.Attributes, "public_address"),
		HostKey:  strings.TrimSpace(text(r.Attributes, "host_key")),
	}
	if h.Host == "" {
		h.Host = text(r.Attributes, "private_address")
	}
	if h.Host == "" || h.HostKey == "" {
		return h, refusal.New(refusal.Conflict, "wait until it is healthy, or verify the stack",
			"%s has not told its address and host key yet", r.Name)
	}
	h.At = net.JoinHostPort(h.Host, "22")
	if reach, ok := r.Attributes["reach"].(map[string]any); ok {
		if at, ok := reach["22"].(string); ok {
			h.At = at
		}
	}
	h.User = m.users(text(r.Want, "image"))
	if spec := m.signsIn(r.Name); spec != nil && text(spec, "user") != "" {
		h.User = text(spec, "user")
	}
	if h.User == "" {
		return h, refusal.New(refusal.Invalid, "name it with --user", "nobody knows as which user %s is signed in to",
			r.Name)
	}
	pair := text(r.Want, "key_pair")
	for _, key := range m.rows {
		if !resource.DrawsKey(key.Type) || pair == "" || text(key.Attributes, "id") != pair {
			continue
		}
		if h.Key = text(key.Attributes, "private_key"); h.Key != "" {
			return h, nil
		}
		public := text(key.Want, "public_key")
		if h.Key = m.keys[use.PublicHalf(public)]; h.Key != "" {
			h.PublicKey = public
			return h, nil
		}
		return h, refusal.New(refusal.Conflict,
			"sign in with ssh and the private half yourself, or give the key by its name as key:NAME",
			"somebody else has the private half of %s, the key of %s", key.Name, r.Name)
	}
	return h, refusal.New(refusal.Conflict, "give the machine the key_pair of a key pair of the template",
		"no key of %s is known", r.Name)
}

// signsIn is the check over SSH of a machine, which tells how it is signed in to.
func (m *machines) signsIn(name string) map[string]any {
	if res := m.rendering.Resource(name); res != nil {
		for _, c := range res.Checks {
			if c.Kind == "ssh" {
				return c.Spec
			}
		}
	}
	return nil
}

// bastion is the machine that a private one is reached through: that of its own checks,
// else the first with a public address and a key.
func (m *machines) bastion(target store.Resource) *store.Resource {
	var through string
	if res := m.rendering.Resource(target.Name); res != nil {
		for _, c := range res.Checks {
			if jump, ok := c.Spec["through"].(map[string]any); ok {
				through = text(jump, "host")
			}
		}
	}
	var first *store.Resource
	for i, r := range m.rows {
		public := text(r.Attributes, "public_address")
		if !resource.IsMachine(r.Type) || public == "" || text(r.Want, "key_pair") == "" {
			continue
		}
		if public == through {
			return &m.rows[i]
		}
		if first == nil {
			first = &m.rows[i]
		}
	}
	return first
}

func text(values map[string]any, key string) string {
	s, _ := values[key].(string)
	return s
}

// agreedKeys are the named key pairs that a stack was given by their names, and with whose
// private halves somebody agreed that people sign in. What older programs recorded counts as
// agreed.
func agreedKeys(d proposal.Document) map[string]string {
	keys := KeysOf(d)
	if !d.UsesListed {
		return keys
	}
	maps.DeleteFunc(keys, func(_, reference string) bool {
		return !slices.ContainsFunc(d.Uses,
			func(u use.Use) bool { return u.For == use.People && slices.Contains(u.Secrets, reference) })
	})
	return keys
}

// ToSign is what a machine wants signed by whoever signs in: the data of a publickey
// request (RFC 4252, section 7).
type ToSign struct {
	Hop  int    `json:"hop"`
	Data []byte `json:"data"`
}

// Signature is what the machine is answered with.
type Signature struct {
	Format string `json:"format"`
	Blob   []byte `json:"blob"`
}

// SignConnection signs in to a machine of a connection. It signs nothing but that: the
// data must be a request of this user with this key.
func (s *Stacks) SignConnection(ctx context.Context, u people.User, id string, t ToSign) (Signature, error) {
	c, err := s.store.Connection(ctx, id)
	if err != nil {
		return Signature{}, refusal.Missing(err, "connection", id, "connect again")
	}
	st, err := s.store.Stack(ctx, c.StackID)
	if err != nil {
		return Signature{}, refusal.Missing(err, "connection", id, "connect again")
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return Signature{}, err
	}
	var hops []Hop
	if err := json.Unmarshal(c.Hops, &hops); err != nil {
		return Signature{}, fmt.Errorf("read connection %s: %w", id, err)
	}
	if !u.Actor().IsOf(c.UserName) || t.Hop < 0 || t.Hop >= len(hops) {
		return Signature{}, refusal.New(refusal.Forbidden, "begin one of your own: undersail connect STACK",
			"the connection %s is not yours", id)
	}
	signer, err := s.signer(ctx, st, hops[t.Hop].Key)
	if err != nil {
		return Signature{}, err
	}
	algorithm, ok := signsInWith(t.Data, hops[t.Hop].User, signer.PublicKey())
	if !ok {
		return Signature{}, refusal.New(refusal.Forbidden, "use: undersail connect",
			"that is no request to sign in to %s as %s", hops[t.Hop].Resource, hops[t.Hop].User)
	}
	sign := func() (*ssh.Signature, error) { return signer.Sign(rand.Reader, t.Data) }
	if multi, can := signer.(ssh.AlgorithmSigner); can {
		sign = func() (*ssh.Signature, error) { return multi.SignWithAlgorithm(rand.Reader, t.Data, algorithm) }
	}
	signature, err := sign()
	if err != nil {
		return Signature{}, fmt.Errorf("sign in to %s: %w", hops[t.Hop].Resource, err)
	}
	return Signature{signature.Format, signature.Blob}, nil
}

// signer signs with a key of the stack: one that was drawn for it, or one that it was given
// by its name and that somebody agreed to. It is asked at every signature, so that a key
// which the stack has no longer signs no longer.
func (s *Stacks) signer(ctx context.Context, st store.Stack, reference string) (ssh.Signer, error) {
	row, err := s.store.Secret(ctx, reference)
	if err != nil {
		return nil, refusal.Missing(err, "key", reference, "verify the stack")
	}
	d, err := s.LastDocument(ctx, st.ID)
	if err != nil {
		return nil, err
	}
	named := slices.Contains(slices.Collect(maps.Values(agreedKeys(d))), reference)
	if row.StackID != st.ID && !named {
		return nil, refusal.New(refusal.Forbidden, "propose the stack with the key's name as key:NAME",
			"nobody agreed that people sign in to stack %s with the key %s", st.Name, reference)
	}
	return s.sealed.Signer(ctx, s.sealed.ForPeople(row), reference)
}

// signsInWith tells whether data is a request to sign in as a user with a key, and with
// which algorithm (RFC 4252, section 7).
func signsInWith(data []byte, user string, key ssh.PublicKey) (algorithm string, ok bool) {
	var request struct {
		Session   []byte
		Kind      byte
		User      string
		Service   string
		Method    string
		Signed    bool
		Algorithm string
		Key       []byte
	}
	if err := ssh.Unmarshal(data, &request); err != nil {
		return "", false
	}
	const userauthRequest = 50
	return request.Algorithm, request.Kind == userauthRequest && request.User == user &&
		request.Service == "ssh-connection" && request.Method == "publickey" && request.Signed &&
		bytes.Equal(request.Key, key.Marshal())
}

// publicOf fills in the public halves of the keys of a way.
func (s *Stacks) publicOf(ctx context.Context, st store.Stack, hops []Hop) error {
	for i, h := range hops {
		if h.PublicKey != "" {
			continue
		}
		signer, err := s.signer(ctx, st, h.Key)
		if err != nil {
			return err
		}
		hops[i].PublicKey = strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	}
	return nil
}
