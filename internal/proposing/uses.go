package proposing

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/sealed"
	"undersail/internal/secrets"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// A secret is read by whoever decides where it goes: into the text of a machine that they
// may log in to, into a URL of a server of theirs. So what secrets are opened for is part of
// a proposal, and whatever is new of it somebody agrees to by name, whoever proposes it.

// listUses lists what the secrets of a proposal are opened for, and asks for the consent to
// what was not agreed to before.
func (s *Proposing) listUses(ctx context.Context, r *reading, j proposal.Judged) (proposal.Judged, error) {
	if j.Plan.Rendering == nil {
		return j, nil
	}
	place := stacks.PlaceOf(r.TextBy, r.Text.Digest, r.Keys)
	var err error
	if place.Carried, err = s.carriedBy(ctx, r, j); err != nil {
		return j, err
	}
	j.Carried, j.Told = place.Carried, use.Told(j.Plan.Rendering, place.Carried)
	list := use.Of(j.Plan.Rendering, place)
	agreed, recorded := sealed.Agreed(), 0
	if !r.isNew && r.stack.TemplateSource != "" {
		if agreed, recorded, err = s.stacks.AgreedUses(ctx, r.stack, r.rows); err != nil {
			return j, err
		}
		agreed = agreed.With(sealed.Agreed(r.undoneUses))
	}
	if j.Uses = list; recorded > 0 {
		j.Findings = append(j.Findings, render.Finding{
			Severity: lang.Note,
			Code:     "uses-recorded",
			Place:    "secrets",
			Message: fmt.Sprintf("%d uses of secrets were recorded before they were listed, and count as agreed",
				recorded),
			Remedy: "look at them once",
		})
	}
	j.Consents = append(j.Consents, asksForUses(list, agreed)...)
	return j, nil
}

// carriedBy finds what of a stack carries secrets, with what is kept that it may take over.
func (s *Proposing) carriedBy(ctx context.Context, r *reading, j proposal.Judged) (map[string][]string, error) {
	names := map[string]string{}
	for _, k := range r.kept {
		names[k.Token] = k.Name
	}
	for _, row := range r.rows {
		names[row.Token] = row.Name
	}
	return s.stacks.Carried(ctx, r.stack.Account, names, j.Found)
}

// asksForUses notes in a list which of its uses are new, and asks for the consent to them.
func asksForUses(list []use.Use, agreed sealed.Agreement) []render.Consent {
	fresh := agreed.Beyond(list)
	isNew := use.Digests(fresh)
	for i := range list {
		list[i].New = isNew[list[i].Digest]
	}
	if len(fresh) == 0 {
		return nil
	}
	return []render.Consent{{Name: policy.ConsentSecrets, About: usesInWords(fresh)}}
}

// usesInWords says what is agreed to, with the digest of it.
func usesInWords(fresh []use.Use) string {
	count := fmt.Sprintf("%d new uses of secrets", len(fresh))
	if len(fresh) == 1 {
		count = "a new use of a secret"
	}
	return fmt.Sprintf("%s, listed with where they go: %s (%s)", count,
		strings.Join(refusal.Few(use.Places(fresh), 5), ", "), shortDigest(use.DigestOf(fresh)))
}

// shortDigest is enough of a digest to tell what was shown from anything else.
func shortDigest(digest string) string { return digest[:16] }

// mayAgreeToUses refuses somebody who agrees to new uses of secrets, unless for each of
// them they, or whoever proposes it, may read the secret at this moment. What is drawn when
// it is accepted is nobody's yet. Rules of inputs that nobody could look at are looked at
// now.
func (s *Proposing) mayAgreeToUses(ctx context.Context, u people.User, p store.Proposal, d proposal.Document) error {
	author, err := s.authorOf(ctx, p, d)
	if err != nil {
		return err
	}
	drawn := map[string]bool{}
	for _, x := range d.Draw {
		drawn[x.Reference] = true
	}
	fresh := slices.DeleteFunc(slices.Clone(d.Uses), func(x use.Use) bool { return !x.New })
	for _, reference := range use.Secrets(fresh) {
		for _, of := range append([]string{reference}, d.Handed[reference]...) {
			if drawn[of] {
				continue
			}
			row, err := s.store.Secret(ctx, of)
			if err != nil {
				return refusal.Missing(err, "secret", of, "propose again")
			}
			if handed := len(d.Handed[of]) > 0; handed {
				continue // what it is made of is asked for
			}
			if !secrets.MayReveal(u, row) && !author.MayReveal(sealed.Kept(row)) {
				return refusal.New(refusal.Forbidden,
					"ask "+cmp.Or(row.GivenBy, "whoever administers "+cmp.Or(row.Account, "the service"))+
						" to accept it", "only somebody who may read %s can agree to its use", of)
			}
		}
	}
	return s.rulesKept(ctx, u, d)
}

// authorOf is whoever proposed something, with what they might then and may still.
func (s *Proposing) authorOf(ctx context.Context, p store.Proposal, d proposal.Document) (access.Actor, error) {
	now, err := s.people.Absent(ctx, p.CreatedBy, d.AuthorRoles, s.engine.Now())
	if err != nil || now.Why != "" {
		return access.Actor{}, err
	}
	return now.User.Actor(), nil
}

// rulesKept holds secrets that were given by their names against the rules of their inputs,
// as far as whoever accepts may read them.
func (s *Proposing) rulesKept(ctx context.Context, u people.User, d proposal.Document) error {
	t, found := templates.Read(d.Template.Bundle())
	if t == nil {
		return found
	}
	for _, in := range t.Inputs {
		name, _ := templates.SplitVersion(d.Secrets[in.Name])
		if !in.Secret || !secrets.NamePattern.MatchString(name) {
			continue
		}
		row, err := s.store.Secret(ctx, d.Secrets[in.Name])
		if err != nil {
			return refusal.Missing(err, "secret", d.Secrets[in.Name], "propose again")
		}
		broken, _, err := s.sealed.Breaks(ctx, u.Actor(), row, in.Rules, d.Stack.Name, t.About.Name)
		if err != nil {
			return fmt.Errorf("asking whether a seal is broken of %s: %w", d.Stack.Name, err)
		}
		if len(broken) > 0 {
			return refusal.New(refusal.Conflict, "propose it with one that has "+in.Rules.Words(),
				"the secret %s breaks the rules of the input %s: %s", row.Reference, in.Name,
				strings.Join(broken, "; "))
		}
	}
	return nil
}
