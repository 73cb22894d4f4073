package proposing

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"github.com/google/uuid"

	"undersail/internal/access"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/fault"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/secrets"
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

	shapedBy []string
}

const draftsListed = 200

func draftOf(d store.Draft) (Draft, error) {
	out := Draft{
		ID:        d.ID,
		Revision:  d.Revision,
		MadeBy:    d.MadeBy,
		MadeAt:    d.MadeAt,
		ChangedAt: d.ChangedAt,
		shapedBy:  d.ShapedBy,
	}
	if err := json.Unmarshal(d.Body, &out.Body); err != nil {
		return out, fmt.Errorf("read draft %s: %w", d.ID, err)
	}
	return out, nil
}

// Drafts lists the drafts that somebody sees, changed last first.
func (s *Proposing) Drafts(ctx context.Context, u people.User) ([]Draft, error) {
	rows, err := s.store.Drafts(ctx, draftsListed)
	out := make([]Draft, 0, len(rows))
	for _, row := range rows {
		d, readErr := draftOf(row)
		seen, askErr := s.seesDraft(ctx, u, d)
		if err = errors.Join(err, readErr, askErr); err == nil && seen {
			out = append(out, d)
		}
	}
	return out, err
}

// AddDraft keeps what is filled in so far, and answers what it would be. One that names
// no place gets the best one.
func (s *Proposing) AddDraft(ctx context.Context, u people.User, n NewProposal) (Draft, error) {
	n, err := s.placed(ctx, u, n)
	if err != nil {
		return Draft{}, err
	}
	if err := s.mustDraft(ctx, u, n); err != nil {
		return Draft{}, err
	}
	raw, err := s.draftBody(ctx, n)
	if err != nil {
		return Draft{}, err
	}
	row, err := s.store.AddDraft(ctx, uuid.NewString(), u.Name, together(n.shaped, u.Name), raw)
	if err != nil {
		return Draft{}, fmt.Errorf("keeping a draft of %s: %w", u.Name, err)
	}
	return s.answered(ctx, u, row, "", "")
}

// Draft finds a draft with what it would be now.
func (s *Proposing) Draft(ctx context.Context, u people.User, id, graph string) (Draft, error) {
	row, err := s.draftRow(ctx, u, id)
	if err != nil {
		return Draft{}, err
	}
	return s.answered(ctx, u, row, "", graph) // who only reads ends nobody's question
}

// ChangeDraft lays a merge patch (RFC 7396) over a draft of a revision. A draft that
// somebody has changed since is refused, and nothing of theirs is lost.
func (s *Proposing) ChangeDraft(ctx context.Context, u people.User, id string, revision int64, patch json.RawMessage,
	graph string) (Draft, error) {
	row, err := s.draftRow(ctx, u, id)
	if err != nil {
		return Draft{}, err
	}
	if row.Revision != revision {
		return Draft{}, changedSince(id, row.Revision, revision)
	}
	merged, err := jsonpatch.MergePatch(row.Body, patch)
	if err != nil {
		return Draft{}, refusal.New(refusal.Invalid, "see RFC 7396",
			"the merge patch cannot be laid over the draft: %v", err)
	}
	var n NewProposal
	d := json.NewDecoder(bytes.NewReader(merged))
	d.DisallowUnknownFields()
	if err := d.Decode(&n); err != nil {
		return Draft{}, refusal.New(refusal.Invalid, "a draft has the fields of a new proposal",
			"the merge patch gives no draft: %v", err)
	}
	var before NewProposal
	if err := json.Unmarshal(row.Body, &before); err != nil {
		return Draft{}, fmt.Errorf("read draft %s: %w", id, err)
	}
	if err := s.mustDraft(ctx, u, before); err != nil {
		return Draft{}, err
	}
	if n.Stack != before.Stack || (n.Account == "" || n.Region == "") && ofPlace(patch) {
		if n, err = s.settled(ctx, u, n); err != nil {
			return Draft{}, err
		}
	}
	if n.Stack != before.Stack || n.Account != before.Account {
		if err := s.mustDraft(ctx, u, n); err != nil {
			return Draft{}, err
		}
	}
	raw, err := s.draftBody(ctx, n)
	if err != nil {
		return Draft{}, err
	}
	// It is kept and answered at the same time: somebody waits for the answer as they type.
	var changed store.Draft
	var kept error
	done := make(chan struct{})
	go func() {
		defer close(done)
		kept = fault.Caught(func() (err error) {
			changed, err = s.store.ChangeDraft(ctx, id, u.Name, revision, raw)
			return err
		})
	}()
	row.Body, row.Revision = raw, revision+1
	answered, err := s.answered(ctx, u, row, "draft "+id, graph)
	<-done
	switch {
	case errors.Is(kept, store.ErrNotFound):
		return Draft{}, changedSince(id, revision+1, revision)
	case kept != nil:
		return Draft{}, kept
	}
	if errors.Is(err, errSuperseded) { // a newer change of the same person is answered instead
		err = nil
	}
	answered.Revision, answered.ChangedAt = changed.Revision, changed.ChangedAt
	return answered, err
}

// ofPlace reports whether a merge patch says where: to every other change of a draft without a
// place it would be a wait for clouds that do not answer.
func ofPlace(patch json.RawMessage) bool {
	var says struct{ Account, Region json.RawMessage }
	return json.Unmarshal(patch, &says) == nil && (says.Account != nil || says.Region != nil)
}

// settled gives a draft the place that goes with its name: a stack that is there stays
// where it is, and another one gets the best place if it has none.
func (s *Proposing) settled(ctx context.Context, u people.User, n NewProposal) (NewProposal, error) {
	_, there, err := s.applied(ctx, n.Stack)
	if err != nil {
		return n, err
	}
	if there {
		n.Account, n.Region = "", ""
		return n, nil
	}
	return s.best(ctx, u, n)
}

// accountOf is where a draft is to be: where its stack is already, or in the account that it
// names; empty while it has no place.
func (s *Proposing) accountOf(ctx context.Context, n NewProposal) (string, error) {
	if n.Stack == "" {
		return n.Account, nil
	}
	stack, there, err := s.applied(ctx, n.Stack)
	if err != nil || there {
		return stack.Account, err
	}
	return n.Account, nil
}

// mustDraft refuses whoever may not operate where a draft is to be, or, while it has no
// place, anywhere.
func (s *Proposing) mustDraft(ctx context.Context, u people.User, n NewProposal) error {
	account, err := s.accountOf(ctx, n)
	switch {
	case err != nil:
		return err
	case account == "":
		return u.MustSomewhere(access.Operate)
	}
	return u.Must(access.Operate, account)
}

// seesDraft reports whether a draft is for somebody to read: as they see the account where
// it is to be, and of one that has no place yet whoever made it.
func (s *Proposing) seesDraft(ctx context.Context, u people.User, d Draft) (bool, error) {
	if access.Seen(ctx) == nil {
		return true, nil
	}
	account, err := s.accountOf(ctx, d.Body)
	return account != "" && access.Sees(ctx, account) || account == "" && u.Owns(d.MadeBy), err
}

func changedSince(id string, has, had int64) error {
	return refusal.New(refusal.Stale, "read it again and lay your change over that",
		"draft %s has revision %d by now, and not %d", id, has, had)
}

// RemoveDraft forgets a draft.
func (s *Proposing) RemoveDraft(ctx context.Context, u people.User, id string) error {
	row, err := s.draftRow(ctx, u, id)
	if err != nil {
		return err
	}
	d, err := draftOf(row)
	if err != nil {
		return err
	}
	if err := s.mustDraft(ctx, u, d.Body); err != nil {
		return err
	}
	return s.store.RemoveDraft(ctx, id)
}

// draftBody encodes a draft. It holds no value of a secret: drafts are kept as they
// are, and secrets are not. One that stands for itself is named.
func (s *Proposing) draftBody(ctx context.Context, n NewProposal) ([]byte, error) {
	if len(n.Secrets) > 0 {
		return nil, refusal.New(refusal.Invalid, "seal them first: PUT /api/v1/drafts/{id}/secrets/{input}",
			"a draft holds no secrets")
	}
	if n.Template != "" || n.Source != "" || n.Stack != "" {
		r := &reading{isNew: true, offline: true}
		if err := s.readDraftTemplate(ctx, r, n); err == nil {
			for _, in := range r.Template.Inputs {
				if secretGiven(in, n) {
					return nil, refusal.New(refusal.Invalid, "seal it first: PUT /api/v1/drafts/{id}/secrets/"+in.Name,
						"a draft holds no secrets, and input %s is one", in.Name)
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

// draftInput finds an input of the template of a draft.
func (s *Proposing) draftInput(ctx context.Context, n NewProposal, input string) (*lang.Input, *reading, error) {
	r := &reading{isNew: true, offline: true}
	if err := s.readDraftTemplate(ctx, r, n); err != nil {
		return nil, nil, err
	}
	in := r.Template.Input(input)
	if in == nil {
		return nil, nil, refusal.New(refusal.NotFound, "its inputs are listed in the answer of the draft",
			"template %s has no input %q", r.Template.About.Name, input)
	}
	return in, r, nil
}

// ProposeDraft proposes what a draft says, and forgets the draft once that is saved.
func (s *Proposing) ProposeDraft(ctx context.Context, u people.User, id string, revision int64) (Proposal, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return Proposal{}, err
	}
	if d.Revision != revision {
		return Proposal{}, changedSince(id, d.Revision, revision)
	}
	d.Body.shaped = d.shapedBy
	p, err := s.Propose(ctx, u, d.Body)
	if err != nil || p.ID == 0 {
		return p, err
	}
	return p, s.store.RemoveDraft(ctx, id)
}

// answered adds to a draft what it would be as a proposal. A draft that names no
// template or place yet is none the worse for it.
func (s *Proposing) answered(ctx context.Context, u people.User, row store.Draft, form, graph string) (Draft, error) {
	d, err := draftOf(row)
	if err != nil {
		return d, err
	}
	a, err := s.Check(ctx, u, Question{NewProposal: d.Body, Form: form, Seq: d.Revision, Graph: graph})
	var refused *refusal.Error
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

// DraftPlaces tells where the template of a draft can run as it is filled in, account by
// account.
func (s *Proposing) DraftPlaces(ctx context.Context, u people.User, id string) ([]Where, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return nil, err
	}
	d.Body.Account = "" // all of them
	return s.Everywhere(ctx, d.Body)
}

// DraftPresets puts the presets of the template of a draft side by side.
func (s *Proposing) DraftPresets(ctx context.Context, u people.User, id string) (Comparison, error) {
	d, err := s.draft(ctx, u, id)
	if err != nil {
		return Comparison{}, err
	}
	n, t, err := s.standing(ctx, d.Body)
	if err != nil {
		return Comparison{}, err
	}
	n.Preset = ""
	variants := []NewVariant{{Name: "as given"}}
	for _, p := range t.Presets { // what is given lies above them, as it does in the draft
		variants = append(variants, NewVariant{Name: p.Name, Preset: p.Name, Inputs: d.Body.Inputs})
	}
	return s.Compare(ctx, Compared{NewProposal: n, Variants: variants})
}

// standing gives a draft that changes a stack what it takes from there: the place, the
// template, the recorded inputs below its own.
func (s *Proposing) standing(ctx context.Context, n NewProposal) (NewProposal, *lang.Template, error) {
	r := &reading{isNew: true, offline: true}
	if err := s.readDraftTemplate(ctx, r, n); err != nil {
		return n, nil, err
	}
	if !r.isNew {
		n.Account, n.Region = r.stack.Account, r.stack.Region
		n.Template, n.File, n.Source, n.Parts = "", r.Text.File, r.Text.Source, r.Text.Parts
		n.Layers = append([]render.Layer{{From: "recorded", Inputs: r.stack.Inputs}}, n.Layers...)
	}
	return n, r.Template, nil
}

func (s *Proposing) draft(ctx context.Context, u people.User, id string) (Draft, error) {
	row, err := s.draftRow(ctx, u, id)
	if err != nil {
		return Draft{}, err
	}
	return draftOf(row)
}

func (s *Proposing) draftRow(ctx context.Context, u people.User, id string) (store.Draft, error) {
	row, err := s.store.Draft(ctx, id)
	if err == nil {
		d, readErr := draftOf(row)
		seen, askErr := s.seesDraft(ctx, u, d)
		if err = errors.Join(readErr, askErr); err == nil && !seen {
			err = store.ErrNotFound
		}
	}
	return row, refusal.Missing(err, "draft", id, "list them with: GET /api/v1/drafts")
}

// DraftOfProposal keeps what a proposal said as a draft, to be changed and proposed anew.
func (s *Proposing) DraftOfProposal(ctx context.Context, u people.User, id int64) (Draft, error) {
	n, err := s.wishOf(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	return s.AddDraft(ctx, u, n)
}

// secretGiven tells whether a draft gives a secret by its value, and not by the name of
// one that is sealed.
func secretGiven(in *lang.Input, n NewProposal) bool {
	if !in.Secret {
		return false
	}
	for _, l := range append(slices.Clone(n.Layers), render.Layer{Inputs: n.Inputs}) {
		switch v := l.Inputs[in.Name].(type) {
		case nil:
		case string:
			if name, named := strings.CutPrefix(v, "secret:"); !named || !secrets.NamePattern.MatchString(name) {
				return true
			}
		default:
			return true
		}
	}
	return false
}
