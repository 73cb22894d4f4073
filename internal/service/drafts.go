package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"undersail/internal/core/lang"
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

// AddDraft keeps what is filled in so far, and answers what it would be. One that names
// no place gets the best one.
func (s *Service) AddDraft(ctx context.Context, u User, n NewProposal) (Draft, error) {
	if err := u.must("operate"); err != nil {
		return Draft{}, err
	}
	n, err := s.placed(ctx, n)
	if err != nil {
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
	var before NewProposal
	if err := json.Unmarshal(row.Body, &before); err != nil {
		return Draft{}, fmt.Errorf("read draft %s: %w", id, err)
	}
	if n.Stack != before.Stack {
		if n, err = s.renamed(ctx, n); err != nil {
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
		changed, kept = s.store.ChangeDraft(ctx, id, revision, raw)
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

// renamed gives a draft the place that goes with its new name: a stack that is there stays
// where it is, and another one gets the best place if it has none.
func (s *Service) renamed(ctx context.Context, n NewProposal) (NewProposal, error) {
	stack, err := s.store.StackByName(ctx, n.Stack)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return n, err
	}
	if err == nil && stack.RetiredAt == nil {
		if _, err := s.store.LastRun(ctx, stack.ID); err == nil {
			n.Account, n.Region = "", ""
			return n, nil
		} else if !errors.Is(err, store.ErrNotFound) {
			return n, err
		}
	}
	return s.placed(ctx, n)
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
// are, and secrets are not. One that stands for itself is named.
func (s *Service) draftBody(ctx context.Context, n NewProposal) ([]byte, error) {
	if len(n.Secrets) > 0 {
		return nil, refuse(Invalid, "seal them first: PUT /api/v1/drafts/{id}/secrets/{input}", "a draft holds no secrets")
	}
	if n.Template != "" || n.Source != "" || n.Stack != "" {
		r := &reading{isNew: true, offline: true}
		if err := s.readDraftTemplate(ctx, r, n); err == nil {
			for _, in := range r.Template.Inputs {
				if secretGiven(in, n) {
					return nil, refuse(Invalid, "seal it first: PUT /api/v1/drafts/{id}/secrets/"+in.Name, "a draft holds no secrets, and input %s is one", in.Name)
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

// readDraftTemplate reads the template that a draft names, or that of its stack.
func (s *Service) readDraftTemplate(ctx context.Context, r *reading, n NewProposal) error {
	if n.Template == "" && n.Source == "" {
		stack, err := s.store.StackByName(ctx, n.Stack)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err == nil && stack.RetiredAt == nil {
			r.stack, r.isNew = stack, false
		}
	}
	return s.readTemplate(ctx, r, n)
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
			if name, named := strings.CutPrefix(v, "secret:"); !named || !secretName.MatchString(name) {
				return true
			}
		default:
			return true
		}
	}
	return false
}

// DraftSecret is a value that somebody typed for a secret input of a draft, or none to
// have one drawn.
type DraftSecret struct {
	Value string `json:"value,omitempty"`
}

// SealForDraft seals a value for a secret input of a draft at once, as a secret that
// stands for itself, and names it in the draft. The value is kept nowhere else.
func (s *Service) SealForDraft(ctx context.Context, u User, id, input string, given DraftSecret, graph string) (Draft, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return Draft{}, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return Draft{}, err
	}
	if !in.Secret {
		return Draft{}, refuse(Invalid, "change it in the draft", "input %s is no secret", input)
	}
	if given.Value != "" {
		if broken := in.Rules.Check(given.Value, secretNames(d.Body, r)...); len(broken) > 0 {
			return Draft{}, refuse(Invalid, "give one with "+in.Rules.Words(), "the secret breaks the rules of input %s: %s", input, strings.Join(broken, "; "))
		}
	}
	n := NewNamed{Kind: "secret", Value: given.Value, About: fmt.Sprintf("%s of %s", cmp.Or(in.Title, input), cmp.Or(d.Body.Stack, "a draft")), Rules: &in.Rules}
	base := strings.Trim(notInName.ReplaceAllString(strings.ToLower(cmp.Or(d.Body.Stack, r.Template.About.Name)+"-"+input), "-"), "-")
	for tries := 1; ; tries++ {
		if n.Name = base; tries > 1 {
			n.Name = fmt.Sprintf("%s-%d", base, tries)
		}
		var refused *Error
		if _, err = s.PutNamed(ctx, u, n); errors.As(err, &refused) && refused.Kind == Conflict && tries < 100 {
			continue
		}
		break
	}
	if err != nil {
		return Draft{}, err
	}
	patch, err := json.Marshal(map[string]any{"inputs": map[string]any{input: "secret:" + n.Name}})
	if err != nil {
		return Draft{}, err
	}
	return s.ChangeDraft(ctx, u, id, d.Revision, patch, graph)
}

// notInName is what names of secrets do not have.
var notInName = regexp.MustCompile(`[^a-z0-9]+`)

// secretNames are those that a secret of a draft must not derive from.
func secretNames(n NewProposal, r *reading) []string {
	return []string{cmp.Or(n.Stack, r.Template.About.Name), r.Template.About.Name}
}

// TrySecret lists the rules of an input that a value breaks. Nothing is kept of it.
func (s *Service) TrySecret(ctx context.Context, id, input string, given DraftSecret) ([]string, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return nil, err
	}
	in, r, err := s.draftInput(ctx, d.Body, input)
	if err != nil {
		return nil, err
	}
	return append([]string{}, in.Rules.Check(given.Value, secretNames(d.Body, r)...)...), nil
}

// draftInput finds an input of the template of a draft.
func (s *Service) draftInput(ctx context.Context, n NewProposal, input string) (*lang.Input, *reading, error) {
	r := &reading{isNew: true, offline: true}
	if err := s.readDraftTemplate(ctx, r, n); err != nil {
		return nil, nil, err
	}
	in := r.Template.Input(input)
	if in == nil {
		return nil, nil, refuse(NotFound, "its inputs are listed in the answer of the draft", "template %s has no input %q", r.Template.About.Name, input)
	}
	return in, r, nil
}

// ProposeDraft proposes what a draft says, and forgets the draft once that is saved.
func (s *Service) ProposeDraft(ctx context.Context, u User, id string, revision int64) (Proposal, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return Proposal{}, err
	}
	if d.Revision != revision {
		return Proposal{}, changedSince(id, d.Revision, revision)
	}
	p, err := s.Propose(ctx, u, d.Body)
	if err != nil || p.ID == 0 {
		return p, err
	}
	return p, s.store.RemoveDraft(ctx, id)
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

// DraftPlaces tells where the template of a draft can run as it is filled in, account by
// account.
func (s *Service) DraftPlaces(ctx context.Context, id string) ([]Where, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return nil, err
	}
	d.Body.Account = "" // all of them
	return s.Everywhere(ctx, d.Body)
}

// DraftPresets puts the presets of the template of a draft side by side.
func (s *Service) DraftPresets(ctx context.Context, id string) (Comparison, error) {
	d, err := s.draft(ctx, id)
	if err != nil {
		return Comparison{}, err
	}
	d.Body.Preset = ""
	return s.Compare(ctx, Compared{NewProposal: d.Body})
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
