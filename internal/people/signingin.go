package people

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"undersail/internal/gentle"
	"undersail/internal/openid"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// Signing is how people sign in.
type Signing struct {
	// URL is where people reach the service; links begin with it.
	URL string
	// Life is how long a session lasts, Idle how long it may go unused.
	Life, Idle time.Duration
	// Again is how long a sign-in by OpenID Connect counts, for sessions and tokens alike: then
	// the provider is asked who that is and what they may.
	AskEvery time.Duration
	// OpenID is the provider that people may sign in by; nil is none.
	OpenID *openid.Provider
	// Groups are the roles that groups of that provider have.
	Groups map[string][]string
	// Pipelines may sign in with tokens of their own providers; nil are none.
	Pipelines *openid.Pipelines
}

func usual() Signing {
	return Signing{Life: 12 * time.Hour, Idle: 2 * time.Hour, AskEvery: 7 * 24 * time.Hour}
}

// SignInBy sets how people sign in. Call it before the service is used.
func (p *People) SignInBy(how Signing) {
	p.signing.URL, p.signing.OpenID, p.signing.Groups, p.signing.Pipelines = how.URL, how.OpenID, how.Groups,
		how.Pipelines
	if how.Life > 0 {
		p.signing.Life = how.Life
	}
	if how.Idle > 0 {
		p.signing.Idle = how.Idle
	}
	if how.AskEvery > 0 {
		p.signing.AskEvery = how.AskEvery
	}
}

// Session is what somebody who signed in carries from then on. Device is kept by the
// browser: tries from there are not counted with those of strangers.
type Session struct {
	Token  string
	Life   time.Duration
	Device string
}

// From is where a try to sign in comes from.
type From struct {
	Address string
	// Device is what the browser was given when somebody signed in with it before.
	Device string
	// Terminal says that a program asks, not the console.
	Terminal bool
	// signedIn says that whoever tries is in a session of the name already.
	signedIn bool
}

// slowing is how tries are slowed down before a password is hashed. Nobody is locked out by others:
// whoever signed in from an address or with a browser before is counted by that alone, and
// what is left to strangers at the same address waits a minute at most.
var slowing = map[string]store.Counting{
	"pair":    {Free: 5, First: 2 * time.Second, Most: time.Minute, Forget: time.Hour},
	"address": {Free: 20, First: time.Second, Most: 5 * time.Minute, Forget: time.Hour},
	"name":    {Free: 30, First: time.Second, Most: time.Minute, Forget: time.Hour},
	"begin":   {Free: 120, First: time.Second, Most: 20 * time.Second, Forget: 10 * time.Minute},
}

// SignIn checks a password and gives a session.
func (p *People) SignIn(ctx context.Context, name, password string, from From) (User, Session, error) {
	u, err := p.store.UserByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, err
	}
	if err != nil {
		u = store.User{Name: name} // it takes as long, and is counted alike
	}
	if err := p.tryPassword(ctx, u, password, from); err != nil {
		return User{}, Session{}, err
	}
	if u.DisabledAt != nil {
		return User{}, Session{}, refusal.New(refusal.Forbidden, "ask an administrator", "%s is disabled", u.Name)
	}
	who, session, err := p.begin(ctx, u, from)
	if err != nil {
		return User{}, Session{}, err
	}
	return who, session, p.journal.Record(ctx, u.Name, "sign in", "", "", map[string]any{
		"from": from.Address,
		"by":   from.about(),
	})
}

func (f From) about() string {
	if f.Terminal {
		return "terminal"
	}
	return "console"
}

// begin gives somebody a session, and knows them by where they are from then on.
func (p *People) begin(ctx context.Context, u store.User, from From) (User, Session, error) {
	session := Session{Token: secret.Token(), Life: p.signing.Life}
	idle := p.signing.Idle
	_, err := p.store.AddToken(ctx, secret.HashToken(session.Token), u.ID,
		store.Token{Kind: "session", About: from.about(), Idle: &idle, UsedFrom: from.Address}, p.signing.Life)
	if err != nil {
		return User{}, Session{}, fmt.Errorf("adding a token: %w", err)
	}
	if from.Device == "" && !from.Terminal {
		session.Device = rand.Text()
		from.Device = session.Device
	}
	places := []string{block(from.Address)}
	if from.Device != "" {
		places = append(places, deviceKey(from.Device))
	}
	return userOf(u), session, p.store.SignedIn(ctx, u.ID, places...)
}

// tryPassword checks a password as one of the tries that are counted.
func (p *People) tryPassword(ctx context.Context, u store.User, password string, from From) error {
	tries, err := p.triesOf(ctx, u.Name, from)
	if err != nil {
		return err
	}
	wait, err := p.store.CountTries(ctx, tries, slowing)
	if err != nil {
		return fmt.Errorf("counting the tries: %w", err)
	}
	if wait > 0 {
		return refusal.Wait(wait, "too many tries that were not right")
	}
	right := false
	if err := p.withPassword(ctx, from, func() { right = secret.CheckPassword(u.PasswordHash, password) }); err != nil {
		return err
	}
	if !right {
		err := p.journal.Record(ctx, refusal.Clip(u.Name, 100), "sign in", "", "", map[string]any{
			"refused": true,
			"from":    from.Address,
		})
		if err != nil {
			return fmt.Errorf("recording it in the journal: %w", err)
		}
		return refusal.New(refusal.Unauthenticated, "check both and try again", "the name or the password is not right")
	}
	if secret.IsOutdated(u.PasswordHash) { // the one moment in which it can be made anew
		hash, err := p.hash(ctx, from, password)
		if err == nil {
			err = p.store.RenewHash(ctx, u.ID, u.PasswordHash, hash)
		}
		if err != nil {
			return err
		}
	}
	return p.store.TriesRight(ctx, tries)
}

// triesOf are the counts that a try adds to. Whoever is known by the session that they are
// in, by their browser or by their address is counted by that alone.
func (p *People) triesOf(ctx context.Context, name string, from From) ([]store.Try, error) {
	name, address := short(name), block(from.Address)
	if from.signedIn {
		return []store.Try{{Kind: "pair", Key: name + " signed in"}}, nil
	}
	places := []string{address}
	if from.Device != "" {
		places = []string{deviceKey(from.Device), address}
	}
	for _, place := range places {
		known, err := p.store.KnownFrom(ctx, name, place)
		if err != nil {
			return nil, fmt.Errorf("asking whether somebody knows %s: %w", name, err)
		}
		if known {
			return []store.Try{{Kind: "pair", Key: name + " " + place}}, nil
		}
	}
	return []store.Try{
		{Kind: "address", Key: address},
		{Kind: "name", Key: name},
		{Kind: "pair", Key: name + " " + address},
	}, nil
}

// short is a name as it is counted: names are anybody's choice.
func short(name string) string {
	if len(name) <= 63 {
		return name
	}
	sum := sha256.Sum256([]byte(name))
	return hex.EncodeToString(sum[:])
}

func deviceKey(device string) string { return "device " + secret.HashToken(device) }

// block is what one peer has of addresses: of IPv6 a whole /64 (RFC 6177).
func block(address string) string {
	a, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if a = a.Unmap(); a.Is4() {
		return a.String()
	}
	p, err := a.WithZone("").Prefix(64)
	if err != nil {
		return address
	}
	return p.String()
}

// hashPatience is how long somebody waits for others' passwords to be hashed.
const hashPatience = 10 * time.Second

// withPassword does something with a password when it is the turn of the address that asks.
func (p *People) withPassword(ctx context.Context, from From, do func()) error {
	leave, ok := p.hashing.Enter(ctx, block(from.Address), 1, hashPatience)
	if !ok {
		return cmp.Or(ctx.Err(), refusal.Wait(hashPatience, "too many people sign in at this moment"))
	}
	defer leave()
	gentle.Do(do)
	return nil
}

func (p *People) hash(ctx context.Context, from From, password string) (hash string, err error) {
	err = p.withPassword(ctx, from, func() { hash = secret.HashPassword(password) })
	return hash, err
}
