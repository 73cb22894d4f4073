package openid

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
)

// Pipeline is a program that signs in with an ID token of its own provider, instead of a
// token that lies with it for a year. The issuer gives tokens to many: the claims say to which
// of them this is.
type Pipeline struct {
	Name     string            `yaml:"name"`     // what it is called here, as a person is
	Issuer   string            `yaml:"issuer"`   // https, or http on loopback
	Audience string            `yaml:"audience"` // whom the tokens are made for; undersail when empty
	Claims   map[string]string `yaml:"claims"`   // each must be there with this very value
	Roles    []string          `yaml:"roles"`    // as of a person
	// Minutes is how long one sign-in lasts; 15 when 0, at most 60.
	Minutes int `yaml:"minutes"`
	// CAFile holds certificates that the issuer's is held against beside the system's.
	CAFile string `yaml:"ca"`
}

// Life is how long a sign-in lasts.
func (p Pipeline) Life() time.Duration {
	if p.Minutes == 0 {
		return 15 * time.Minute
	}
	return time.Duration(p.Minutes) * time.Minute
}

// Pipelines are all that may sign in.
type Pipelines struct {
	rules     []Pipeline
	providers []*Provider
}

const longestPipeline = 60 // minutes

// NewPipelines checks what an operator wrote; no provider is asked yet.
func NewPipelines(rules []Pipeline) (*Pipelines, error) {
	out := &Pipelines{}
	for i, r := range rules {
		if r.Audience == "" {
			r.Audience = "undersail"
		}
		var fault error
		switch {
		case !access.PersonName.MatchString(r.Name):
			fault = errors.New("use up to 63 small letters, digits, dots, hyphens and underscores")
		case slices.ContainsFunc(out.rules, func(o Pipeline) bool { return o.Name == r.Name }):
			fault = errors.New("two have this name")
		case len(r.Claims) == 0:
			fault = errors.New("it names no claim, and its issuer gives tokens to others too; say which one it is, " +
				"such as sub or repository")
		case len(r.Roles) == 0:
			fault = errors.New("it has no role, so it could do nothing")
		case r.Minutes < 0 || r.Minutes > longestPipeline:
			fault = fmt.Errorf("%d minutes are not between 1 and %d", r.Minutes, longestPipeline)
		}
		p, err := New(Config{Issuer: r.Issuer, ClientID: r.Audience, CAFile: r.CAFile})
		if fault = errors.Join(fault, err); fault != nil {
			return nil, fmt.Errorf("pipeline %d, %q: %w", i+1, r.Name, fault)
		}
		out.rules, out.providers = append(out.rules, r), append(out.providers, p)
	}
	return out, nil
}

// Named finds a pipeline by its name and issuer.
func (p *Pipelines) Named(name, issuer string) (Pipeline, bool) {
	if p != nil {
		for _, r := range p.rules {
			if r.Name == name && r.Issuer == issuer {
				return r, true
			}
		}
	}
	return Pipeline{}, false
}

// Of tells which pipeline a token is of, what its provider calls it, and when the token ends.
// Only issuers that the operator named are asked anything. ErrDenied says that it is of none.
func (p *Pipelines) Of(ctx context.Context, raw string) (of Pipeline, subject string, until time.Time, err error) {
	issuer := issuerOf(raw)
	err = fmt.Errorf("%w: no pipeline here has such a token", ErrDenied)
	for i, r := range p.rules {
		if issuer == "" || r.Issuer != issuer {
			continue
		}
		found, away := p.providers[i].provider(ctx)
		if away != nil {
			err = away
			continue
		}
		id, claims, refused := p.providers[i].verified(ctx, found, raw)
		if refused != nil {
			err = refused
			continue
		}
		if which := missing(r.Claims, claims); which != "" {
			err = fmt.Errorf("%w: its claim %s is not that of pipeline %s", ErrDenied, which, r.Name)
			continue
		}
		return r, id.Subject, id.Expiry, nil
	}
	return Pipeline{}, "", time.Time{}, err
}

// missing names a claim that a token does not have as it must.
func missing(want map[string]string, claims map[string]any) string {
	for name, value := range want {
		switch has := claims[name].(type) {
		case string:
			if has == value {
				continue
			}
		case bool, float64:
			if fmt.Sprint(has) == value {
				continue
			}
		}
		return name
	}
	return ""
}

// issuerOf reads who a token says that it is from (RFC 7519). Nothing of it is believed: it
// chooses whose keys it is held against.
func issuerOf(raw string) string {
	parts := strings.Split(raw, ".")
	if len(parts) != 3 {
		return ""
	}
	body, err := base64.RawURLEncoding.DecodeString(parts[1])
	var claims struct {
		Issuer string `json:"iss"`
	}
	if err != nil || json.Unmarshal(body, &claims) != nil {
		return ""
	}
	return claims.Issuer
}
