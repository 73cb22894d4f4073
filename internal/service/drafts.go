package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/store"
)

// Draft is what somebody has filled in and not yet proposed.
type Draft struct {
	ID        string      `json:"id"`
	Revision  int64       `json:"revision"`
	Body      NewProposal `json:"body"`
	MadeBy    string      `json:"made_by"`
	MadeAt    time.Time   `json:"made_at"`
	ChangedAt time.Time   `json:"changed_at"`
	// Answer is what it would be as a proposal; Problem why that cannot be told yet.
	Answer  *Answer `json:"answer,omitempty"`
	Problem string  `json:"problem,omitempty"`
	Remedy  string  `json:"remedy,omitempty"`
}

const draftsListed = 200

func draftOf(d store.Draft) (Draft, error) {
	out := Draft{ID: d.ID, Revision: d.Revision, MadeBy: d.MadeBy, MadeAt: d.MadeAt, ChangedAt: d.ChangedAt}
	if err := json.Unmarshal(d.Body, &out.Body); err != nil {
		return out, fmt.Errorf("read draft %s: %w", d.ID, err)
	}
	return out, nil
}

// Drafts lists drafts, changed last first.
func (s *Service) Drafts(ctx context.Context) ([]Draft, error) {
	rows, err := s.store.Drafts(ctx, draftsListed)
	out := make([]Draft, 0, len(rows))
	for _, row := range rows {
		d, readErr := draftOf(row)
		if err = errors.Join(err, readErr); err == nil {
			out = append(out, d)
		}
	}
	return out, err
}

// AddDraft keeps what is filled in so far, and answers what it would be. Graph is the
// digest of the graph that the asker has.
func (s *Service) AddDraft(ctx context.Context, u User, n NewProposal) (Draft, error) {
	if err := u.must("operate"); err != nil {
		return Draft{}, err
	}
	raw, err := s.draftBody(ctx, n)
	if err != nil {
		return Draft{}, err
	}
	row, err := s.store.AddDraft(ctx, newID(), u.Name, raw)
	if err != nil {
		return Draft{}, err
	}
	return s.answered(ctx, u, row, "", "")
}

// Draft finds a draft with what it would be now.
func (s *Service) Draft(ctx context.Context, u User, id, graph string) (Draft, error) {
	row, err := s.draftRow(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	return s.answered(ctx, u, row, "", graph) // who only reads ends nobody's question
}

// ChangeDraft lays a merge patch (RFC 7396) over a draft of a revision. A draft that
// somebody has changed since is refused, and nothing of theirs is lost.
func (s *Service) ChangeDraft(ctx context.Context, u User, id string, revision int64, patch json.RawMessage, graph string) (Draft, error) {
	if err := u.must("operate"); err != nil {
		return Draft{}, err
	}
	row, err := s.draftRow(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	if row.Revision != revision {
		return Draft{}, changedSince(id, row.Revision, revision)
	}
	merged, err := jsonpatch.MergePatch(row.Body, patch)
	if err != nil {
		return Draft{}, refuse(Invalid, "see RFC 7396", "the merge patch cannot be laid over the draft: %v", err)
	}
	var n NewProposal
	d := json.NewDecoder(bytes.NewReader(merged))
	d.DisallowUnknownFields()
	if err := d.Decode(&n); err != nil {
		return Draft{}, refuse(Invalid, "a draft has the fields of a new proposal", "the merge patch gives no draft: %v", err)
	}
	raw, err := s.draftBody(ctx, n)
	if err != nil {
		return Draft{}, err
	}
	changed, err := s.store.ChangeDraft(ctx, id, revision, raw)
	if errors.Is(err, store.ErrNotFound) {
		return Draft{}, changedSince(id, revision+1, revision)
	}
	if err != nil {
		return Draft{}, err
	}
	return s.answered(ctx, u, changed, "draft "+id, graph)
}

func changedSince(id string, has, had int64) error {
	return refuse(Stale, "read it again and lay your change over that", "draft %s has revision %d by now, and not %d", id, has, had)
}

// RemoveDraft forgets a draft.
func (s *Service) RemoveDraft(ctx context.Context, u User, id string) error {
	if err := u.must("operate"); err != nil {
		return err
	}
	if _, err := s.draftRow(ctx, id); err != nil {
		return err
	}
	return s.store.RemoveDraft(ctx, id)
}

// draftBody encodes a draft. It holds no value of a secret: drafts are kept as they
// are, and secrets are not.
func (s *Service) draftBody(ctx context.Context, n NewProposal) ([]byte, error) {
	if len(n.Secrets) > 0 {
		return nil, refuse(Invalid, "give secrets when you propose", "a draft holds no secrets")
	}
	if n.Template != "" || n.Source != "" {
		r := &reading{isNew: true}
		if err := s.readTemplate(ctx, r, n); err == nil {
			for _, in := range r.Template.Inputs {
				if secretGiven(in, n) {
					return nil, refuse(Invalid, "give secrets when you propose", "a draft holds no secrets, and input %s is one", in.Name)
				}
			}
		}
	}
	raw, err := json.Marshal(n)
	if err != nil {
		return nil, fmt.Errorf("encode draft: %w", err)
	}
	return raw, nil
}

func secretGiven(in *lang.Input, n NewProposal) bool {
	if !in.Secret {
		return false
	}
	for _, l := range append(n.Layers, render.Layer{Inputs: n.Inputs}) {
		if l.Inputs[in.Name] != nil {
			return true
		}
	}
	return false
}

// answered adds to a draft what it would be as a proposal. A draft that names no
// template or place yet is none the worse for it.
func (s *Service) answered(ctx context.Context, u User, row store.Draft, form, graph string) (Draft, error) {
	d, err := draftOf(row)
	if err != nil {
		return d, err
	}
	a, err := s.Check(ctx, u, Question{NewProposal: d.Body, Form: form, Seq: d.Revision, Graph: graph})
	var refused *Error
	switch {
	case errors.As(err, &refused) && !errors.Is(err, errSuperseded):
		d.Problem, d.Remedy = refused.Title, refused.Remedy
		if len(refused.Diagnostics) > 0 {
			d.Remedy = refused.Diagnostics[0].Message
		}
	case err != nil:
		return d, err
	default:
		d.Answer = &a
	}
	return d, nil
}

// DraftPlaces tells where the template of a draft can run as it is filled in.
func (s *Service) DraftPlaces(ctx context.Context, id string) (Comparison, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return Comparison{}, err
	}
	return s.FitTemplate(ctx, d.Body)
}

func (s *Service) draft(ctx context.Context, id string) (Draft, error) {
	row, err := s.draftRow(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	return draftOf(row)
}

func (s *Service) draftRow(ctx context.Context, id string) (store.Draft, error) {
	row, err := s.store.Draft(ctx, id)
	return row, missing(err, "draft", id, "list them with: GET /api/v1/drafts")
}

// DraftChoices lists what can be chosen for an input of a draft, those that fit first.
func (s *Service) DraftChoices(ctx context.Context, id, input string) ([]offer.Option, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.Choices(ctx, d.Body, input)
}

// Choices lists what can be chosen for an input, those that fit first. An input that
// takes any value of its type has none.
func (s *Service) Choices(ctx context.Context, n NewProposal, input string) ([]offer.Option, error) {
	r := &reading{isNew: true}
	if err := s.readTemplate(ctx, r, n); err != nil {
		return nil, err
	}
	in := r.Template.Input(input)
	if in == nil {
		return nil, refuse(NotFound, "its inputs are listed in the answer of the draft", "template %s has no input %q", r.Template.About.Name, input)
	}
	out := []offer.Option{}
	if in.Secret || in.Picks == "key_pair" {
		own, err := s.ownChoices(ctx, in.Secret)
		if err != nil {
			return nil, err
		}
		if out = append(out, own...); in.Secret {
			return out, nil
		}
	}
	switch {
	case in.Picks == "stack":
		list, err := s.store.Summaries(ctx, "", draftsListed)
		for _, x := range list {
			if in.Other == nil || x.TemplateName == in.Other.About.Name {
				out = append(out, offer.Option{Value: x.Name, About: x.TemplateName + "@" + x.TemplateVersion})
			}
		}
		return out, err
	case n.Account == "":
		return out, nil
	}
	a, err := s.account(ctx, n.Account)
	if err != nil {
		return nil, err
	}
	if in.Picks == "region" {
		for _, region := range a.Regions {
			out = append(out, offer.Option{Value: region})
		}
		return out, nil
	}
	if n.Region == "" {
		return out, nil
	}
	if err := inRegion(a, n.Region); err != nil {
		return nil, err
	}
	o, err := s.offersOf(ctx, a, n.Region, false)
	if err != nil {
		return nil, err
	}
	if list, known := render.Options(in, o); known {
		out = append(out, list...)
	}
	return out, nil
}

// ownChoices are the secrets, or the key pairs, that stand for themselves.
func (s *Service) ownChoices(ctx context.Context, secrets bool) ([]offer.Option, error) {
	list, err := s.NamedSecrets(ctx)
	if err != nil {
		return nil, err
	}
	var out []offer.Option
	for _, n := range list {
		switch {
		case secrets && n.Kind == "secret":
			out = append(out, offer.Option{Value: "secret:" + n.Name, About: n.About})
		case !secrets && n.Kind != "secret":
			out = append(out, offer.Option{Value: "key:" + n.Name, About: n.About})
		}
	}
	return out, nil
}
