package people

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/openid"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// attemptLife is how long somebody may take to come back from the provider.
const attemptLife = 10 * time.Minute

func (p *People) provider() (*openid.Provider, error) {
	if p.signing.OpenID == nil {
		return nil, refusal.New(refusal.NotFound, "sign in with a password", "this service knows no OpenID provider")
	}
	return p.signing.OpenID, nil
}

// begins counts what is begun with the provider from an address: each costs the provider a
// question and us a record.
func (p *People) begins(ctx context.Context, address string) (*openid.Provider, error) {
	provider, err := p.provider()
	if err != nil {
		return nil, err
	}
	return provider, p.countBegun(ctx, address)
}

func (p *People) countBegun(ctx context.Context, address string) error {
	wait, err := p.store.CountTries(ctx, []store.Try{{Kind: "begin", Key: block(address)}}, slowing)
	if err == nil && wait > 0 {
		err = refusal.Wait(wait, "too many sign-ins were begun from here")
	}
	return err
}

// OffersOpenID reports whether people may sign in by an OpenID provider.
func (p *People) OffersOpenID() bool { return p.signing.OpenID != nil }

// providerSays turns what went wrong with the provider into words.
func (p *People) providerSays(err error) error {
	switch {
	case errors.Is(err, openid.ErrAway):
		p.log.Warn("signing in by OpenID Connect", "error", err)
		return refusal.New(refusal.CloudRefused,
			"try again later, or ask whoever runs the service to look into its log",
			"the OpenID provider does not answer as it should")
	case errors.Is(err, openid.ErrDenied):
		p.log.Warn("signing in by OpenID Connect", "error", err)
		return refusal.New(refusal.Unauthenticated, "begin again", "the OpenID provider did not sign you in")
	}
	return err
}

// BeginOpenID gives where a browser goes to sign in, and what it keeps until it comes back:
// an answer counts only in the browser that asked.
func (p *People) BeginOpenID(ctx context.Context, address string) (to, handle string, err error) {
	provider, err := p.begins(ctx, address)
	if err != nil {
		return "", "", err
	}
	a := openid.NewAttempt(rand.Text(), rand.Text())
	if to, err = provider.Begin(ctx, a); err != nil {
		return "", "", p.providerSays(err)
	}
	raw, err := json.Marshal(a)
	if err != nil {
		return "", "", fmt.Errorf("beginning to sign in by a provider: %w", err)
	}
	handle = rand.Text()
	return to, handle, p.saveAttempt(ctx, handle, "browser", raw, attemptLife)
}

func (p *People) saveAttempt(ctx context.Context, handle, kind string, raw []byte, life time.Duration) error {
	sealed, err := p.seals.SignIn(secret.HashToken(handle), raw)
	if err != nil {
		return err
	}
	return p.store.AddSigningIn(ctx, secret.HashToken(handle), kind, sealed, life)
}

func (p *People) openAttempt(handle string, sealed []byte, into any) error {
	raw, err := p.seals.OpenSignIn(secret.HashToken(handle), sealed)
	if err != nil { // the key was rotated meanwhile
		return refusal.New(refusal.Unauthenticated, "begin again", "the sign-in is over")
	}
	return json.Unmarshal(raw, into)
}

// FinishOpenID signs in whoever came back from the provider with a code.
func (p *People) FinishOpenID(ctx context.Context, handle, state, code, address string) (User, Session, error) {
	provider, err := p.provider()
	if err != nil {
		return User{}, Session{}, err
	}
	unknown := refusal.New(refusal.Unauthenticated, "begin again",
		"this answer of the OpenID provider belongs to no sign-in of this browser")
	sealed, err := p.store.TakeSigningIn(ctx, secret.HashToken(handle))
	if errors.Is(err, store.ErrNotFound) {
		return User{}, Session{}, unknown
	}
	var a openid.Attempt
	if err == nil {
		err = p.openAttempt(handle, sealed, &a)
	}
	switch {
	case err != nil:
		return User{}, Session{}, err
	case state == "" || state != a.State || code == "":
		return User{}, Session{}, unknown
	}
	who, err := provider.Finish(ctx, a, code)
	if err != nil {
		return User{}, Session{}, p.providerSays(err)
	}
	return p.signInAs(ctx, who, From{Address: address})
}

// TerminalSignIn is what somebody at a terminal has to do: enter Code at URL. Handle asks
// whether it was done.
type TerminalSignIn struct {
	Handle    string    `json:"handle"`
	Code      string    `json:"code"`
	URL       string    `json:"url"`
	Complete  string    `json:"complete,omitempty"` // the URL with the code in it
	ExpiresAt time.Time `json:"expires_at"`
	Interval  int64     `json:"interval_seconds"`
}

type terminalAttempt struct {
	Device   string        `json:"device"`
	Interval time.Duration `json:"interval"`
}

// BeginTerminal begins a sign-in from a terminal without a browser (RFC 8628).
func (p *People) BeginTerminal(ctx context.Context, address string) (TerminalSignIn, error) {
	provider, err := p.begins(ctx, address)
	if err != nil {
		return TerminalSignIn{}, err
	}
	t, err := provider.BeginTerminal(ctx)
	if err != nil {
		return TerminalSignIn{}, p.providerSays(err)
	}
	raw, err := json.Marshal(terminalAttempt{t.Device, t.Interval})
	if err != nil {
		return TerminalSignIn{}, fmt.Errorf("beginning to sign in by a terminal: %w", err)
	}
	life := min(max(time.Until(t.Expires), time.Minute), time.Hour)
	out := TerminalSignIn{
		Handle:    rand.Text(),
		Code:      t.UserCode,
		URL:       t.URL,
		Complete:  t.Complete,
		ExpiresAt: time.Now().Add(life).Truncate(time.Second),
		Interval:  int64(t.Interval / time.Second),
	}
	return out, p.saveAttempt(ctx, out.Handle, "terminal", raw, life)
}

// AskTerminal signs in once the code was entered; Waiting says that it was not yet.
func (p *People) AskTerminal(ctx context.Context, handle string, from From) (User, Session, error) {
	provider, err := p.provider()
	if err != nil {
		return User{}, Session{}, err
	}
	waiting := refusal.New(refusal.Waiting, "ask again after the interval", "nobody has entered the code yet")
	hash := secret.HashToken(handle)
	// The provider's interval is inside: what is asked sooner than any may be does not get there.
	sealed, err := p.store.AskSigningIn(ctx, hash, time.Second)
	switch {
	case errors.Is(err, store.ErrConflict):
		return User{}, Session{}, waiting
	case errors.Is(err, store.ErrNotFound):
		return User{}, Session{}, refusal.New(refusal.Unauthenticated, "begin again", "the sign-in is over")
	}
	var a terminalAttempt
	if err == nil {
		err = p.openAttempt(handle, sealed, &a)
	}
	if err != nil {
		return User{}, Session{}, err
	}
	who, err := provider.AskTerminal(ctx, a.Device)
	if errors.Is(err, openid.ErrPending) || errors.Is(err, openid.ErrSlow) {
		return User{}, Session{}, waiting
	}
	if err := p.store.ForgetSigningIn(ctx, hash); err != nil {
		return User{}, Session{}, fmt.Errorf("forgetting the signing in: %w", err)
	}
	if err != nil {
		return User{}, Session{}, p.providerSays(err)
	}
	return p.signInAs(ctx, who, from)
}

// signInAs signs in whom the provider names, with the roles of their groups. Somebody who
// comes for the first time is made.
func (p *People) signInAs(ctx context.Context, who openid.Identity, from From) (User, Session, error) {
	var texts []string
	for _, g := range who.Groups {
		texts = append(texts, p.signing.Groups[g]...)
	}
	slices.Sort(texts)
	roles := slices.Compact(texts)
	refused := func(err error) (User, Session, error) {
		return User{}, Session{}, errors.Join(err,
			p.journal.Record(ctx, refusal.Clip(who.Name, 100), "sign in", "", "", map[string]any{
				"refused": true,
				"from":    from.Address,
				"by":      "openid",
			}))
	}
	u, err := p.store.UserBySubject(ctx, who.Issuer, who.Subject)
	switch {
	case len(roles) == 0 && (err == nil || errors.Is(err, store.ErrNotFound)):
		if err == nil { // they lost what they had
			err = p.store.SyncUser(ctx, u.ID, u.FullName, nil)
			_, ended := p.store.RemoveTokens(ctx, u.ID, "session", "bearer")
			if err := errors.Join(err, ended); err != nil {
				return User{}, Session{}, err
			}
		}
		return refused(refusal.New(refusal.Forbidden, "ask whoever runs the provider for a group that has one",
			"none of your groups has a role here"))
	case errors.Is(err, store.ErrNotFound):
		name := strings.ToLower(who.Name)
		if !access.PersonName.MatchString(name) {
			return refused(refusal.New(refusal.Forbidden, "ask whoever runs the provider",
				"the OpenID provider gives you no name that can be used here"))
		}
		u, err = p.store.AddUser(ctx, store.User{
			Name:     name,
			FullName: refusal.Clip(who.FullName, 200),
			Roles:    roles,
			Issuer:   who.Issuer,
			Subject:  who.Subject,
			MadeBy:   "openid",
		})
		if errors.Is(err, store.ErrConflict) { // nobody becomes another by having their name elsewhere
			return refused(refusal.New(refusal.Forbidden, "ask an administrator",
				"there is a user %s here who does not sign in by OpenID Connect as you", name))
		}
		if err == nil {
			err = p.journal.Record(ctx, u.Name, "first sign in by openid", u.Name, "", map[string]any{
				"roles":   roles,
				"subject": refusal.Clip(who.Subject, 200),
			})
		}
	case err == nil && u.DisabledAt != nil:
		return refused(refusal.New(refusal.Forbidden, "ask an administrator", "%s is disabled", u.Name))
	case err == nil:
		err = p.store.SyncUser(ctx, u.ID, refusal.Clip(who.FullName, 200), roles)
		u.Roles = roles
	}
	if err != nil {
		return User{}, Session{}, fmt.Errorf("sign in by OpenID Connect: %w", err)
	}
	user, session, err := p.begin(ctx, u, from)
	return user, session, errors.Join(err,
		p.journal.Record(ctx, u.Name, "sign in", "", "", map[string]any{"from": from.Address, "by": "openid"}))
}
