package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"undersail/internal/openid"
	"undersail/internal/refusal"
	"undersail/internal/secret"
	"undersail/internal/store"
)

// ofPipelines begins the issuer of a user that is a pipeline. No URL of an issuer begins so:
// whoever the same provider signs in as a person is never taken for one.
const ofPipelines = "pipelines of "

// SignInPipeline gives a pipeline a token for some minutes, for an ID token of its provider
// that nobody came with before.
func (p *People) SignInPipeline(ctx context.Context, raw string, from From) (MadeToken, error) {
	if p.signing.Pipelines == nil {
		return MadeToken{}, refusal.New(refusal.NotFound, "whoever runs the service names them with --pipelines",
			"this service knows no pipelines")
	}
	if err := p.countBegun(ctx, from.Address); err != nil {
		return MadeToken{}, err
	}
	raw = strings.TrimSpace(raw)
	of, subject, until, err := p.signing.Pipelines.Of(ctx, raw)
	if err != nil {
		if errors.Is(err, openid.ErrDenied) {
			p.log.Warn("signing a pipeline in", "error", err)
			err = refusal.New(refusal.Unauthenticated,
				"hold its issuer, audience, claims and end against the file of serve --pipelines; the service's log "+
					"says what differs", "no pipeline is let in with this token")
		}
		return MadeToken{}, errors.Join(p.providerSays(err),
			p.journal.Record(ctx, "a pipeline", "sign in", "", "", map[string]any{
				"refused": true,
				"from":    from.Address,
				"by":      "pipeline",
			}))
	}
	// What is signed stands before the last dot; the same signature can be written otherwise.
	hash := secret.HashToken(raw[:strings.LastIndexByte(raw, '.')])
	if err := p.store.AddSigningIn(ctx, hash, "pipeline", []byte{}, max(time.Until(until), 0)+time.Hour); errors.Is(err,
		store.ErrConflict) {
		return MadeToken{}, refusal.New(refusal.Unauthenticated, "ask the provider for a new one",
			"this token was used already")
	} else if err != nil {
		return MadeToken{}, err
	}
	u, err := p.pipeline(ctx, of)
	if err != nil {
		return MadeToken{}, err
	}
	value := secret.Token()
	row, err := p.store.AddToken(ctx, secret.HashToken(value), u.ID,
		store.Token{Kind: bearer, About: refusal.Clip("signed in as "+subject, 200), UsedFrom: from.Address}, of.Life())
	if err != nil {
		return MadeToken{}, fmt.Errorf("adding a token: %w", err)
	}
	who := userOf(u)
	return MadeToken{tokenOf(row, who), value}, p.journal.Record(ctx, u.Name, "sign in", "", "", map[string]any{
		"from":    from.Address,
		"by":      "pipeline",
		"subject": refusal.Clip(subject, 200),
	})
}

// pipeline finds the user that a pipeline is, with the roles that it has now. One that comes
// for the first time is made.
func (p *People) pipeline(ctx context.Context, of openid.Pipeline) (store.User, error) {
	u, err := p.store.UserBySubject(ctx, ofPipelines+of.Issuer, of.Name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		u, err = p.store.AddUser(ctx, store.User{
			Name:     of.Name,
			FullName: "Pipeline " + of.Name,
			Roles:    of.Roles,
			Issuer:   ofPipelines + of.Issuer,
			Subject:  of.Name,
			MadeBy:   OperatorOfHost,
		})
		if errors.Is(err, store.ErrConflict) { // nobody becomes another by having their name elsewhere
			return u, refusal.New(refusal.Forbidden, "name the pipeline otherwise",
				"there is a user %s here who is not this pipeline", of.Name)
		}
		if err == nil {
			err = p.journal.Record(ctx, u.Name, "first sign in of a pipeline", u.Name, "", map[string]any{
				"roles":  of.Roles,
				"issuer": of.Issuer,
			})
		}
	case err == nil && u.DisabledAt != nil:
		return u, refusal.New(refusal.Forbidden, "ask an administrator", "%s is disabled", u.Name)
	case err == nil:
		err = p.store.SyncUser(ctx, u.ID, u.FullName, of.Roles)
		u.Roles = of.Roles
	}
	if err == nil {
		err = p.store.SignedIn(ctx, u.ID)
	}
	if err != nil {
		return u, fmt.Errorf("sign a pipeline in: %w", err)
	}
	return u, nil
}

// rolesNow are the roles of a user at this moment: a pipeline has those that it is given
// where the service runs, however it signed in before.
func (p *People) rolesNow(u store.User) []string {
	issuer, is := strings.CutPrefix(u.Issuer, ofPipelines)
	if !is {
		return u.Roles
	}
	of, _ := p.signing.Pipelines.Named(u.Name, issuer)
	return of.Roles
}
