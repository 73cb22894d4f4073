package proposing

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/google/uuid"

	"undersail/internal/access"
	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/render"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// learned gives the durations that were learned in an account.
func (s *Proposing) learned(ctx context.Context, account string) (map[proposal.Learned]int64, error) {
	list, err := s.store.Expected(ctx, account)
	out := make(map[proposal.Learned]int64, len(list))
	for _, l := range list {
		out[proposal.Learned{Type: l.Type, Region: l.Region, Size: l.Size}] = l.Ms
	}
	return out, err
}

// read reads the facts of a proposal that is asked for.
func (s *Proposing) read(ctx context.Context, u people.User, n NewProposal) (*reading, error) {
	return s.readFacts(ctx, u, n, false)
}

// readFacts reads the facts; offline ones call no cloud, and take what is recorded for
// what is there. What of secrets is compared or held against rules is so for whoever may
// read them.
func (s *Proposing) readFacts(ctx context.Context, u people.User, n NewProposal, offline bool) (*reading, error) {
	r := &reading{
		user:    u,
		offline: offline,
		Facts: proposal.Facts{
			Keep:      n.Keep,
			LiftGuard: n.LiftGuard,
			Again:     n.Again,
			Rebuild:   n.Rebuild,
			Given:     maps.Clone(n.Secrets),
			Secrets:   map[string]string{},
			Inputs:    map[string]any{},
			Keys:      map[string]string{},
		},
	}
	if r.Given == nil {
		r.Given = map[string]string{}
	}
	if err := s.readStack(ctx, r, n); err != nil {
		return nil, err
	}
	if err := s.readTemplate(ctx, r, n); err != nil {
		return nil, err
	}
	if err := s.readPlace(ctx, r); err != nil {
		return nil, err
	}
	if err := r.takeInputs(n); err != nil {
		return nil, err
	}
	if err := s.readBefore(ctx, r); err != nil {
		return nil, err
	}
	if err := s.readStacks(ctx, r); err != nil {
		return nil, err
	}
	return r, s.nameSecrets(ctx, r)
}

// readStack finds the stack, or begins a new one. One that was never applied is
// bound to no place yet, and keeps its id.
func (s *Proposing) readStack(ctx context.Context, r *reading, n NewProposal) error {
	var err error
	r.stack, err = s.store.StackByName(ctx, n.Stack)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	id := uuid.NewString()
	r.isNew = err != nil || r.stack.RetiredAt != nil || n.unnamed
	if !r.isNew {
		if _, err := s.store.LastRun(ctx, r.stack.ID); errors.Is(err, store.ErrNotFound) {
			r.isNew, id = true, r.stack.ID
			n.Account, n.Region = cmp.Or(n.Account, r.stack.Account), cmp.Or(n.Region, r.stack.Region)
		} else if err != nil {
			return err
		}
	}
	switch {
	case r.isNew && (n.Account == "" || n.Region == ""):
		return refusal.New(refusal.Invalid, "add --account and --region", "a new stack needs an account and a region")
	case r.isNew:
		r.stack = store.Stack{ID: id, Name: n.Stack, Account: n.Account, Region: n.Region}
		return nil
	case n.Account != "" && n.Account != r.stack.Account || n.Region != "" && n.Region != r.stack.Region:
		return refusal.New(refusal.Conflict, "leave account and region out, or choose another name",
			"stack %s is in %s, region %s", n.Stack, r.stack.Account, r.stack.Region)
	}
	return s.rest(ctx, r)
}

func (s *Proposing) readTemplate(ctx context.Context, r *reading, n NewProposal) error {
	file, source, parts := n.File, n.Source, n.Parts
	switch {
	case source == "" && n.Template != "":
		t, err := s.templates.Find(ctx, n.Template)
		if err != nil {
			return err
		}
		if t.Maturity == "withdrawn" && r.isNew {
			return refusal.New(refusal.Invalid, "choose another version or template",
				"template %s %s is withdrawn: existing stacks may keep it, new ones may not have it", t.Name, t.Version)
		}
		file, source, parts, r.TextBy = t.Name+".sail.yaml", t.Source, t.Parts, t.PublishedBy
	case source == "" && !r.isNew && r.stack.TemplateSource != "":
		file, source, parts = r.stack.TemplateName+".sail.yaml", r.stack.TemplateSource, r.stack.TemplateParts
	case source == "":
		return refusal.New(refusal.Invalid, "add --template NAME, or the path of a template file",
			"a new stack needs a template")
	}
	if file == "" {
		file = "template.sail.yaml"
	}
	bundle := lang.Bundle{File: file, Source: source, Parts: parts}
	if n.Source != "" {
		r.TextBy = r.user.Name
		var err error
		given := bundle
		key := fmt.Sprintf("bundle %x",
			sha256.Sum256([]byte(given.File+"\x00"+given.Source+fmt.Sprint(len(given.Parts)))))
		if bundle, err = accounts.Recent(s.accounts.Lately, r.offline && len(given.Parts) == 0, key,
			func() (lang.Bundle, error) { return s.templates.Resolve(ctx, given) }); err != nil {
			return err
		}
	}
	var found error
	if err := s.turns.Compute(ctx, func(b *budget.Budget) {
		b.Spend(int64(len(bundle.Source)))
		found = r.readBundle(bundle)
	}); err != nil {
		return err
	}
	return found
}

// readBundle reads the template of a proposal.
func (r *reading) readBundle(b lang.Bundle) error {
	var found lang.Diagnostics
	if r.Template, found = templates.Read(b); r.Template == nil {
		return &refusal.Error{
			Kind:        refusal.Findings,
			Title:       "the template has errors",
			Remedy:      "mend them and propose again",
			Diagnostics: found,
		}
	}
	r.Text = proposal.TemplateText{
		Name:    r.Template.About.Name,
		Version: r.Template.About.Version,
		File:    b.File,
		Digest:  r.Template.Digest,
		Source:  b.Source,
		Parts:   b.Parts,
	}
	return nil
}

// readPlace reads what the region of the stack sells, and what is recorded there.
func (s *Proposing) readPlace(ctx context.Context, r *reading) error {
	type connected struct {
		adapter cloud.Adapter
		account store.Account
	}
	if !access.Sees(ctx, r.stack.Account) { // what was read lately was perhaps read for somebody else
		return refusal.Missing(store.ErrNotFound, "account", r.stack.Account, "list them with: undersail accounts")
	}
	c, err := accounts.Recent(s.accounts.Lately, r.offline, "account "+r.stack.Account, func() (connected, error) {
		adapter, account, err := s.accounts.Adapter(ctx, r.stack.Account)
		return connected{adapter, account}, err
	})
	if err != nil {
		return err
	}
	adapter, account := c.adapter, c.account
	r.account, r.adapter = account, adapter
	if !r.offline {
		r.looked = s.engine.Now()
	}
	if err := accounts.InRegion(account, r.stack.Region); err != nil {
		return err
	}
	r.Stack = render.Stack{
		Name:    r.stack.Name,
		ID:      r.stack.ID,
		Account: r.stack.Account,
		Cloud:   account.Cloud,
		Region:  r.stack.Region,
		Tags:    account.Tags,
	}
	home, err := s.offersFor(ctx, r, r.stack.Region)
	if err != nil {
		return err
	}
	r.Offers = offer.Everywhere{
		Home:      home,
		Elsewhere: map[string]*offer.Offers{},
		Others:    s.accounts.OtherRegions(account, r.stack.Region),
	}
	if r.Rules, err = accounts.Recent(s.accounts.Lately, r.offline, "rules",
		func() (*policy.Rules, error) { return s.templates.Rules(ctx) }); err != nil {
		return err
	}
	r.Today = s.engine.Now().UTC().Format(time.DateOnly)
	if account.MostMonth != nil {
		r.MostMonth = *account.MostMonth
	}
	learned, err := accounts.Recent(s.accounts.Lately, r.offline, "learned "+account.Name,
		func() (map[proposal.Learned]int64, error) { return s.learned(ctx, account.Name) })
	if err != nil {
		return err
	}
	r.Durations = proposal.Durations{Learned: learned, Rate: max(account.ClockRate, 0.001)}
	if r.isNew {
		return nil
	}
	if r.rows, err = s.store.Resources(ctx, r.stack.ID); err != nil {
		return fmt.Errorf("reading the resources of stack %s: %w", r.stack.ID, err)
	}
	if r.offline {
		r.live = stacks.AsRecorded(r.rows)
		return nil
	}
	r.live, err = s.stacks.Look(ctx, adapter, account, r.stack, r.rows)
	return err
}

// offersFor gives what a region sells: now, or as it was told last, for facts that call no
// cloud and for who only leaves.
func (s *Proposing) offersFor(ctx context.Context, r *reading, region string) (*offer.Offers, error) {
	read := func() (*offer.Offers, error) { return s.accounts.ReadOffers(ctx, r.account, region) }
	if r.offline {
		read = func() (*offer.Offers, error) { return s.accounts.OffersOf(ctx, r.account, region, false) }
	}
	if r.leaves {
		read = func() (*offer.Offers, error) { return s.accounts.PricesOf(ctx, r.account, region) }
	}
	o, err := read()
	if err != nil {
		return nil, err
	}
	if r.reserves == nil {
		except := r.stack.ID // also what an older proposal of it would take
		key := "reserves " + r.account.Name + " " + except
		if r.reserves, err = accounts.Recent(s.accounts.Lately, r.offline, key,
			func() ([]accounts.Reserve, error) { return s.accounts.Reserved(ctx, r.account, "", except) }); err != nil {
			return nil, err
		}
	}
	return accounts.Counting(o, r.reserves), nil
}

// readBefore reads how the stack was last applied, and what is kept that it may take
// over.
func (s *Proposing) readBefore(ctx context.Context, r *reading) error {
	conduct := map[string]render.Resource{}
	var err error
	if !r.isNew {
		if conduct, err = s.stacks.Conduct(ctx, r.stack, r.rows); err != nil {
			return err
		}
		if err := s.lastApplied(ctx, r); err != nil {
			return err
		}
	}
	of := r.stack.Account + " " + r.stack.Name
	if r.kept, err = accounts.Recent(s.accounts.Lately, r.offline, "kept "+of,
		func() ([]store.Kept, error) { return s.store.KeptBy(ctx, r.stack.Account, r.stack.Name) }); err != nil {
		return err
	}
	if r.versions, err = accounts.Recent(s.accounts.Lately, r.offline, "secrets "+of,
		func() (map[string]int, error) { return s.store.SecretVersions(ctx, r.stack.Name) }); err != nil {
		return err
	}
	r.Recorded = r.asRecorded(conduct)
	for i, x := range r.Recorded {
		r.Recorded[i].Becomes = r.becomes[x.Name]
	}
	taken, err := r.mayTakeOver(ctx)
	r.Recorded = append(r.Recorded, taken...)
	return err
}

// takeInputs lays the recorded inputs, a preset, inputs files and single inputs
// over each other and takes secret values out of them, wherever they were given.
func (r *reading) takeInputs(n NewProposal) error {
	recorded := render.Layer{From: "recorded", Inputs: map[string]any{}}
	if r.stack.TemplateName == r.Template.About.Name {
		for name, v := range r.stack.Inputs {
			if r.Template.Input(name) != nil { // a newer template may not ask for it any more
				recorded.Inputs[name] = v
			}
		}
	}
	preset, err := render.PresetLayer(r.Template, n.Preset)
	if err != nil {
		return refusal.New(refusal.Invalid, "choose one that the template has, or none", "%v", err)
	}
	layers := append([]render.Layer{recorded, preset}, n.Layers...)
	all, origins := render.Merge(append(layers, render.Layer{From: "given", Inputs: n.Inputs})...)
	r.Origins = origins
	for name, v := range all {
		if in := r.Template.Input(name); in != nil && in.Secret {
			if text, ok := v.(string); ok {
				r.Given[name] = text
				continue
			}
		}
		r.Inputs[name] = v
	}
	return nil
}

// lastApplied reads the inputs and named keys that a stack was last applied with, and what
// was agreed to then.
func (s *Proposing) lastApplied(ctx context.Context, r *reading) error {
	d, err := s.stacks.LastDocument(ctx, r.stack.ID)
	if err != nil || d.Rendering == nil {
		return err
	}
	r.LastInputs, r.Agreed, r.lastKeys = d.Rendering.Inputs, slices.Concat(d.Consents, d.Given), stacks.KeysOf(d)
	if r.Text.Source == r.stack.TemplateSource && sameJSON(r.Text.Parts, r.stack.TemplateParts) {
		r.TextBy = d.TextBy // whoever wrote it then
	}
	return nil
}

// readDraftTemplate reads the template that a draft names, or that of its stack, if that
// was applied.
func (s *Proposing) readDraftTemplate(ctx context.Context, r *reading, n NewProposal) error {
	stack, there, err := s.applied(ctx, n.Stack)
	if err != nil {
		return err
	}
	if there {
		r.stack, r.isNew = stack, false
	}
	return s.readTemplate(ctx, r, n)
}

// applied finds a stack of a name that was applied and not retired.
func (s *Proposing) applied(ctx context.Context, name string) (store.Stack, bool, error) {
	stack, err := s.store.StackByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) || err == nil && stack.RetiredAt != nil {
		return stack, false, nil
	}
	if err != nil {
		return stack, false, err
	}
	if _, err = s.store.LastRun(ctx, stack.ID); errors.Is(err, store.ErrNotFound) {
		return stack, false, nil
	}
	return stack, err == nil, err
}
