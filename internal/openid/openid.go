// Package openid signs people in by a provider of OpenID Connect: browsers by the
// authorization code with PKCE (RFC 7636), terminals by a code that is entered elsewhere
// (RFC 8628). It decides nothing: it tells who the provider says that somebody is.
package openid

import (
	"context"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"undersail/internal/trust"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Config names a provider and what we are there.
type Config struct {
	Issuer       string // https, or http on loopback
	ClientID     string
	ClientSecret string // empty for a public client
	// Groups is the claim that tells the groups of somebody; groups when empty.
	Groups string
	// CAFile holds certificates that the provider's is held against beside the system's.
	CAFile string
	// Return is where the provider sends browsers back to.
	Return string
}

// Provider is one that people sign in by. It is asked for the first time when somebody does.
type Provider struct {
	config Config
	client *http.Client

	mu    sync.Mutex
	found *oidc.Provider
}

// Identity is who the provider says that somebody is.
type Identity struct {
	Issuer, Subject, Name, FullName string
	Groups                          []string
}

// Errors of signing in.
var (
	ErrPending = errors.New("nobody has entered the code yet")
	ErrSlow    = errors.New("asked too often")
	ErrDenied  = errors.New("the provider refused")
	ErrAway    = errors.New("the provider does not answer as it should")
)

// patience is how long a provider may take to answer, and mostAnswer how much it may say.
const (
	patience   = 10 * time.Second
	mostAnswer = 1 << 20
)

// New makes a provider; it is not asked anything yet.
func New(c Config) (*Provider, error) {
	at, err := url.Parse(c.Issuer)
	if err != nil || at.Host == "" || c.ClientID == "" {
		return nil, fmt.Errorf("an OpenID provider needs the URL of its issuer and a client ID, not %q and %q",
			c.Issuer, c.ClientID)
	}
	if at.Scheme != "https" && !(at.Scheme == "http" && trust.IsHere(at.Hostname())) {
		return nil, fmt.Errorf("the OpenID issuer %s must be reached by https", c.Issuer)
	}
	if c.Groups == "" {
		c.Groups = "groups"
	}
	transport, err := trust.Transport(c.CAFile)
	if err != nil {
		return nil, fmt.Errorf("the OpenID provider: %w", err)
	}
	return &Provider{config: c, client: &http.Client{Timeout: patience, Transport: brief{transport},
		CheckRedirect: func(*http.Request, []*http.Request) error { return errors.New("the provider redirects") }}}, nil
}

// brief reads no more of an answer than it may say.
type brief struct{ http.RoundTripper }

func (b brief) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		res.Body = struct {
			io.Reader
			io.Closer
		}{io.LimitReader(res.Body, mostAnswer), res.Body}
	}
	return res, err
}

func (p *Provider) ctx(ctx context.Context) context.Context { return oidc.ClientContext(ctx, p.client) }

// provider reads once what the provider says of itself.
func (p *Provider) provider(ctx context.Context) (*oidc.Provider, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.found == nil {
		// Its keys are fetched later with the same client: the context must outlive this call.
		found, err := oidc.NewProvider(p.ctx(context.WithoutCancel(ctx)), p.config.Issuer)
		if err != nil {
			return nil, fmt.Errorf("%w: %w", ErrAway, err)
		}
		p.found = found
	}
	return p.found, nil
}

func (p *Provider) oauth(ctx context.Context) (*oauth2.Config, *oidc.Provider, error) {
	found, err := p.provider(ctx)
	if err != nil {
		return nil, nil, err
	}
	return &oauth2.Config{
		ClientID:     p.config.ClientID,
		ClientSecret: p.config.ClientSecret,
		Endpoint:     found.Endpoint(),
		RedirectURL:  p.config.Return,
		Scopes:       []string{oidc.ScopeOpenID, "profile", "email", "groups"},
	}, found, nil
}

// Attempt is a sign-in from a browser that is under way. Nobody but us may see it.
type Attempt struct{ State, Nonce, Verifier string }

// Begin gives where a browser has to go for an attempt.
func (p *Provider) Begin(ctx context.Context, a Attempt) (string, error) {
	c, _, err := p.oauth(ctx)
	if err != nil {
		return "", err
	}
	return c.AuthCodeURL(a.State, oidc.Nonce(a.Nonce), oauth2.S256ChallengeOption(a.Verifier)), nil
}

// NewAttempt begins a sign-in from a browser; state and nonce are random texts.
func NewAttempt(state, nonce string) Attempt {
	return Attempt{State: state, Nonce: nonce, Verifier: oauth2.GenerateVerifier()}
}

// Finish tells who came back with a code.
func (p *Provider) Finish(ctx context.Context, a Attempt, code string) (Identity, error) {
	c, found, err := p.oauth(ctx)
	if err != nil {
		return Identity{}, err
	}
	t, err := c.Exchange(p.ctx(ctx), code, oauth2.VerifierOption(a.Verifier))
	if err != nil {
		return Identity{}, refusal(err)
	}
	id, who, err := p.identity(ctx, found, t)
	if err == nil && subtle.ConstantTimeCompare([]byte(id.Nonce), []byte(a.Nonce)) != 1 {
		return Identity{}, fmt.Errorf("%w: its answer belongs to another attempt", ErrDenied)
	}
	return who, err
}

// Terminal is a sign-in from a terminal that is under way: somebody enters UserCode at URL.
// Device is ours alone.
type Terminal struct {
	Device, UserCode, URL, Complete string
	Expires                         time.Time
	Interval                        time.Duration
}

// BeginTerminal asks for a code that is entered elsewhere.
func (p *Provider) BeginTerminal(ctx context.Context) (Terminal, error) {
	c, _, err := p.oauth(ctx)
	if err != nil {
		return Terminal{}, err
	}
	if c.Endpoint.DeviceAuthURL == "" {
		return Terminal{}, fmt.Errorf("%w: it offers no sign-in from terminals", ErrDenied)
	}
	var proof []oauth2.AuthCodeOption // the library says only who we are (RFC 8628, section 3.1)
	if c.ClientSecret != "" {
		proof = append(proof, oauth2.SetAuthURLParam("client_secret", c.ClientSecret))
	}
	d, err := c.DeviceAuth(p.ctx(ctx), proof...)
	if err != nil {
		return Terminal{}, refusal(err)
	}
	for _, at := range []string{d.VerificationURI, d.VerificationURIComplete} {
		if at != "" && !p.isPage(at) {
			return Terminal{}, fmt.Errorf("%w: it sends people to %.40q, which is no page", ErrDenied, at)
		}
	}
	interval := max(time.Duration(d.Interval)*time.Second, time.Second)
	if d.Interval == 0 {
		interval = 5 * time.Second // RFC 8628, section 3.2
	}
	return Terminal{
		Device:   d.DeviceCode,
		UserCode: d.UserCode,
		URL:      d.VerificationURI,
		Complete: d.VerificationURIComplete,
		Expires:  d.Expiry,
		Interval: interval,
	}, nil
}

// isPage reports whether an address is one that a person may be sent to: by https, or as
// the provider itself is reached.
func (p *Provider) isPage(at string) bool {
	u, err := url.Parse(at)
	issuer, errIssuer := url.Parse(p.config.Issuer)
	return err == nil && errIssuer == nil && u.Host != "" &&
		(u.Scheme == "https" || u.Scheme == "http" && issuer.Scheme == "http")
}

const deviceGrant = "urn:ietf:params:oauth:grant-type:device_code"

// AskTerminal asks once whether the code was entered; ErrPending says not yet.
func (p *Provider) AskTerminal(ctx context.Context, device string) (Identity, error) {
	c, found, err := p.oauth(ctx)
	if err != nil {
		return Identity{}, err
	}
	t, err := c.Exchange(p.ctx(ctx), "", oauth2.SetAuthURLParam("grant_type", deviceGrant),
		oauth2.SetAuthURLParam("device_code", device))
	if err != nil {
		return Identity{}, refusal(err)
	}
	_, who, err := p.identity(ctx, found, t)
	return who, err
}

// refusal sorts what the provider says. Its texts are not repeated: they may hold anything.
func refusal(err error) error {
	var said *oauth2.RetrieveError
	if !errors.As(err, &said) {
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	switch said.ErrorCode {
	case "authorization_pending":
		return ErrPending
	case "slow_down":
		return ErrSlow
	case "":
		return fmt.Errorf("%w: status %d", ErrAway, said.Response.StatusCode)
	}
	return fmt.Errorf("%w: %.40q", ErrDenied, said.ErrorCode)
}

// verified holds a token against the keys, issuer, client and end that it must have.
func (p *Provider) verified(ctx context.Context, found *oidc.Provider,
	raw string) (*oidc.IDToken, map[string]any, error) {
	id, err := found.VerifierContext(p.ctx(ctx), &oidc.Config{ClientID: p.config.ClientID}).Verify(p.ctx(ctx), raw)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: its answer cannot be trusted: %w", ErrDenied, err)
	}
	claims := map[string]any{}
	if err := id.Claims(&claims); err != nil {
		return nil, nil, fmt.Errorf("%w: its answer cannot be read: %w", ErrDenied, err)
	}
	// A token for several readers says for whom it was made; one that says so is for no other
	// (OpenID Connect Core 1.0, section 3.1.3.7).
	if by, named := claims["azp"]; named && by != p.config.ClientID || !named && len(id.Audience) > 1 {
		return nil, nil, fmt.Errorf("%w: its answer was made for another client", ErrDenied)
	}
	return id, claims, nil
}

// identity reads who the token of an answer is about.
func (p *Provider) identity(ctx context.Context, found *oidc.Provider,
	t *oauth2.Token) (*oidc.IDToken, Identity, error) {
	raw, _ := t.Extra("id_token").(string)
	if raw == "" {
		return nil, Identity{}, fmt.Errorf("%w: its answer names nobody", ErrDenied)
	}
	id, claims, err := p.verified(ctx, found, raw)
	if err != nil {
		return nil, Identity{}, err
	}
	text := func(name string) string { t, _ := claims[name].(string); return t }
	who := Identity{Issuer: id.Issuer, Subject: id.Subject, Name: text("preferred_username"), FullName: text("name")}
	if who.Name == "" {
		who.Name, _, _ = strings.Cut(text("email"), "@")
	}
	switch groups := claims[p.config.Groups].(type) {
	case string:
		who.Groups = []string{groups}
	case []any:
		for _, g := range groups {
			if name, ok := g.(string); ok {
				who.Groups = append(who.Groups, name)
			}
		}
	}
	return id, who, nil
}
