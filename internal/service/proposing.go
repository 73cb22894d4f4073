package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/store"
)

// NewProposal is what a proposal is asked for with. Template names one in the
// library; Source is the text of one that is not, File its name for messages.
type NewProposal struct {
	Stack    string `json:"stack"`
	Template string `json:"template,omitempty"`
	Source   string `json:"source,omitempty"`
	File     string `json:"file,omitempty"`
	// Parts are what the text embeds from beside it.
	Parts []lang.Bundle `json:"parts,omitempty"`
	// Preset names a preset of the template. Layers are inputs files, lowest
	// first; Inputs lie above them all.
	Preset  string            `json:"preset,omitempty"`
	Layers  []render.Layer    `json:"layers,omitempty"`
	Account string            `json:"account,omitempty"`
	Region  string            `json:"region,omitempty"`
	Inputs  map[string]any    `json:"inputs,omitempty"`
	Secrets map[string]string `json:"secrets,omitempty"`
}

// Proposal is a saved set of changes.
type Proposal struct {
	ID        int64               `json:"id"`
	Stack     string              `json:"stack"`
	Kind      string              `json:"kind"`
	State     string              `json:"state"`
	Why       string              `json:"why,omitempty"`
	Template  string              `json:"template,omitempty"`
	Account   string              `json:"account"`
	Region    string              `json:"region"`
	Summary   string              `json:"summary"`
	Changes   []change.Change     `json:"changes"`
	Findings  []render.Finding    `json:"findings"`
	Inputs    []render.InputValue `json:"inputs"`
	Outputs   []render.Output     `json:"outputs"`
	Consents  []render.Consent    `json:"consents"`
	Cost      price.Cost          `json:"cost"`
	CostNow   price.Cost          `json:"cost_now"`
	Seconds   float64             `json:"seconds"`
	Longest   []string            `json:"longest"`
	CreatedBy string              `json:"created_by"`
	CreatedAt time.Time           `json:"created_at"`
	DecidedBy string              `json:"decided_by,omitempty"`
	DecidedAt *time.Time          `json:"decided_at,omitempty"`
	ExpiresAt time.Time           `json:"expires_at"`
	RunID     *int64              `json:"run,omitempty"`
	// Undoes is the run that the proposal would undo.
	Undoes *int64 `json:"undoes,omitempty"`
}

const proposalLife = 24 * time.Hour

var stackPattern = regexp.MustCompile(`^[a-z][a-z0-9]*(-[a-z0-9]+)*$`)

// Propose works out what has to change and saves it. Findings with errors
// refuse the proposal; nothing is saved then, and nothing was made.
func (s *Service) Propose(ctx context.Context, u User, n NewProposal) (Proposal, error) {
	if err := u.must("operate"); err != nil {
		return Proposal{}, err
	}
	if !stackPattern.MatchString(n.Stack) || len(n.Stack) > 40 {
		return Proposal{}, refuse(Invalid, "use up to 40 small letters, digits and hyphens, such as warning-site", "%q is not a name for a stack", n.Stack)
	}
	w, err := s.work(ctx, n)
	if err != nil {
		return Proposal{}, err
	}
	plan, err := s.plan(ctx, w)
	if err != nil {
		return Proposal{}, err
	}
	return s.save(ctx, u, w, plan, state.KindApply)
}

// work is everything a proposal is computed from.
type work struct {
	stack    store.Stack
	isNew    bool
	template *lang.Template
	text     engine.TemplateText
	account  store.Account
	offers   offer.Offers
	recorded []store.Resource
	inputs   map[string]any    // without secrets
	origins  map[string]string // the layer of each input
	conduct  map[string]render.Resource
	facts    facts
	found    map[string]map[string]any // of resources that are used, not made
	stacks   map[string]map[string]any // outputs of the stacks that inputs pick
	// lastInputs are those that the stack was last applied with.
	lastInputs []render.InputValue
	given      map[string]string // secret values that were given now
	secrets    map[string]string // references by input or key pair
	draw       []engine.Draw
	kept       map[string]int // newest version of each kept secret
	basis      int64
	expect     engine.Durations
	undoes     *int64 // the run that is undone
}

func (s *Service) work(ctx context.Context, n NewProposal) (*work, error) {
	w := &work{inputs: map[string]any{}, given: maps.Clone(n.Secrets), secrets: map[string]string{}}
	if w.given == nil {
		w.given = map[string]string{}
	}
	var err error
	w.stack, err = s.store.StackByName(ctx, n.Stack)
	w.isNew = errors.Is(err, store.ErrNotFound) || err == nil && w.stack.RetiredAt != nil
	if err != nil && !w.isNew {
		return nil, err
	}
	if w.isNew {
		w.stack = store.Stack{ID: newID(), Name: n.Stack, Account: n.Account, Region: n.Region}
		if n.Account == "" || n.Region == "" {
			return nil, refuse(Invalid, "add --account and --region", "a new stack needs an account and a region")
		}
	} else if n.Account != "" && n.Account != w.stack.Account || n.Region != "" && n.Region != w.stack.Region {
		return nil, refuse(Conflict, "leave account and region out, or choose another name", "stack %s is in %s, region %s", n.Stack, w.stack.Account, w.stack.Region)
	}
	if !w.isNew {
		if w.basis, err = s.basis(ctx, w.stack.ID); err != nil {
			return nil, err
		}
	}
	if err := s.readTemplate(ctx, w, n); err != nil {
		return nil, err
	}
	if err := s.readPlace(ctx, w); err != nil {
		return nil, err
	}
	if err := w.takeInputs(n); err != nil {
		return nil, err
	}
	if !w.isNew {
		if w.conduct, err = s.conduct(w.stack, w.recorded); err != nil {
			return nil, err
		}
		if w.lastInputs, err = s.lastApplied(ctx, w.stack); err != nil {
			return nil, err
		}
	}
	if err := s.readStacks(ctx, w); err != nil {
		return nil, err
	}
	return w, s.nameSecrets(ctx, w)
}

func (s *Service) readTemplate(ctx context.Context, w *work, n NewProposal) error {
	file, source, parts := n.File, n.Source, n.Parts
	switch {
	case source == "" && n.Template != "":
		t, err := s.Template(ctx, n.Template)
		if err != nil {
			return err
		}
		if t.Maturity == "withdrawn" && w.isNew {
			return refuse(Invalid, "choose another version or template", "template %s %s is withdrawn: existing stacks may keep it, new ones may not have it", t.Name, t.Version)
		}
		file, source, parts = t.Name+".sail.yaml", t.Source, t.Parts
	case source == "" && !w.isNew && w.stack.TemplateSource != "":
		file, source, parts = w.stack.TemplateName+".sail.yaml", w.stack.TemplateSource, w.stack.TemplateParts
	case source == "":
		return refuse(Invalid, "add --template NAME, or the path of a template file", "a new stack needs a template")
	}
	if file == "" {
		file = "template.sail.yaml"
	}
	bundle := lang.Bundle{File: file, Source: source, Parts: parts}
	if n.Source != "" {
		var err error
		if bundle, err = s.resolve(ctx, bundle); err != nil {
			return err
		}
	}
	var found lang.Diagnostics
	if w.template, found = lang.ReadBundle(bundle); w.template == nil {
		return &Error{Kind: Findings, Title: "the template has errors", Remedy: "mend them and propose again", Diagnostics: found}
	}
	w.text = engine.TemplateText{Name: w.template.About.Name, Version: w.template.About.Version, File: file, Digest: w.template.Digest, Source: source, Parts: bundle.Parts}
	return nil
}

func (s *Service) readPlace(ctx context.Context, w *work) error {
	adapter, account, err := s.adapter(ctx, w.stack.Account)
	if err != nil {
		return err
	}
	w.account = account
	if !slices.Contains(account.Regions, w.stack.Region) {
		return refuse(Invalid, "the regions are "+strings.Join(account.Regions, ", "), "account %s has no region %q", account.Name, w.stack.Region)
	}
	if w.offers, err = adapter.Offers(ctx, w.stack.Region); err != nil {
		return cloudSays(err)
	}
	w.offers.Account = account.Name
	if w.expect, err = s.durations(ctx, account); err != nil {
		return err
	}
	if w.isNew {
		return nil
	}
	return s.readRecorded(ctx, w, adapter)
}

// readRecorded reads what is recorded of a stack and what the cloud says of it.
func (s *Service) readRecorded(ctx context.Context, w *work, adapter cloud.Adapter) (err error) {
	if w.recorded, err = s.store.Resources(ctx, w.stack.ID); err != nil {
		return err
	}
	if w.facts, err = s.look(ctx, adapter, w.account, w.stack, w.recorded); err != nil {
		return err
	}
	w.offers.Networks = w.othersNetworks()
	return nil
}

func (s *Service) durations(ctx context.Context, a store.Account) (engine.Durations, error) {
	learned, err := s.store.Expected(ctx, a.Name)
	return engine.Durations{Learned: learned, Rate: max(a.ClockRate, 0.001)}, err
}

// basis is the newest run of a stack; an active one refuses a proposal.
func (s *Service) basis(ctx context.Context, stackID string) (int64, error) {
	run, err := s.store.LastRun(ctx, stackID)
	if errors.Is(err, store.ErrNotFound) {
		return 0, nil
	}
	if err == nil && run.State == state.Parked {
		return 0, refuse(Conflict, fmt.Sprintf("do what it waits for, or end it with: undersail stop %d", run.ID), "run %d of the stack is parked: %s", run.ID, run.Reason)
	}
	if err == nil && run.EndedAt == nil {
		return 0, refuse(Conflict, fmt.Sprintf("wait for it with: undersail watch %d", run.ID), "run %d of the stack is not over", run.ID)
	}
	return run.ID, err
}

// takeInputs lays the recorded inputs, a preset, inputs files and single inputs
// over each other and takes secret values out of them, wherever they were given.
func (w *work) takeInputs(n NewProposal) error {
	recorded := render.Layer{From: "recorded", Inputs: map[string]any{}}
	if w.stack.TemplateName == w.template.About.Name {
		for name, v := range w.stack.Inputs {
			if w.template.Input(name) != nil { // a newer template may not ask for it any more
				recorded.Inputs[name] = v
			}
		}
	}
	preset, err := render.PresetLayer(w.template, n.Preset)
	if err != nil {
		return refuse(Invalid, "choose one that the template has, or none", "%v", err)
	}
	layers := append([]render.Layer{recorded, preset}, n.Layers...)
	all, origins := render.Merge(append(layers, render.Layer{From: "given", Inputs: n.Inputs})...)
	w.origins = origins
	for name, v := range all {
		if in := w.template.Input(name); in != nil && in.Secret {
			if text, ok := v.(string); ok {
				w.given[name] = text
				continue
			}
		}
		w.inputs[name] = v
	}
	return nil
}

func (w *work) place() render.Stack {
	return render.Stack{Name: w.stack.Name, ID: w.stack.ID, Account: w.stack.Account, Cloud: w.account.Cloud, Region: w.stack.Region}
}

// plan computes the changes. The values of given secrets take part only in
// checking their rules.
func (s *Service) plan(ctx context.Context, w *work) (change.Plan, error) {
	compute := func() change.Plan {
		inputs := maps.Clone(w.inputs)
		for name, v := range w.given {
			inputs[name] = v
		}
		return change.Compute(render.Request{Template: w.template, Stack: w.place(), Inputs: inputs, Origins: w.origins, Secrets: w.secrets, Offers: &w.offers, Stacks: w.stacks,
			Known: func(r render.Resource) map[string]any { return w.found[r.Name] }}, w.recordedForChange())
	}
	plan := compute()
	missing, err := s.lookUp(ctx, w, plan.Rendering)
	if err != nil {
		return plan, err
	}
	if drawn := w.drawSecrets(plan.Rendering); drawn || len(w.found) > 0 {
		plan = compute()
	}
	findings := append(slices.Clone(plan.Rendering.Findings), plan.Findings...)
	findings = append(findings, missing...)
	findings = append(findings, w.movedDefaults(plan.Rendering)...)
	findings = append(findings, policy.Check(plan.Rendering)...)
	plan.Findings = findings
	if render.HasErrors(findings) {
		return plan, &Error{Kind: Findings, Title: "the proposal would not work", Remedy: "mend what the findings name; nothing was made", Findings: findings}
	}
	return plan, nil
}

func (s *Service) save(ctx context.Context, u User, w *work, plan change.Plan, kind string) (Proposal, error) {
	steps := engine.Steps(plan.Changes, plan.Rendering, w.expect, w.recorded)
	takes, longest := engine.Forecast(steps)
	doc := engine.Document{Template: w.text, Stack: w.place(), Inputs: w.inputs, Found: w.found, Stacks: w.stacks, Secrets: w.secrets, Draw: w.draw, Offers: w.offers, Rendering: plan.Rendering,
		Changes: plan.Changes, Findings: plan.Findings, Seconds: takes.Seconds(), Longest: longest, Basis: w.basis}
	if plan.Rendering != nil {
		doc.Cost = price.Of(plan.Rendering.Resources, w.offers)
	} else {
		doc.Cost = price.Of(nil, w.offers)
	}
	doc.CostNow = price.Of(w.paidFor(), w.offers)
	raw, err := json.Marshal(doc)
	if err != nil {
		return Proposal{}, fmt.Errorf("encode proposal: %w", err)
	}
	st, err := s.store.AddStack(ctx, w.stack)
	if err != nil {
		return Proposal{}, err
	}
	if st.ID != w.stack.ID {
		return Proposal{}, refuse(Conflict, "propose again", "somebody else made stack %s at this moment", w.stack.Name)
	}
	for name, value := range w.given {
		sealed, err := s.box.Seal([]byte(value))
		if err != nil {
			return Proposal{}, err
		}
		if err := s.store.AddSecret(ctx, store.Secret{Reference: w.secrets[name], StackID: st.ID, Kind: "given", Sealed: sealed}); err != nil {
			return Proposal{}, err
		}
	}
	row := store.Proposal{StackID: st.ID, Kind: kind, Document: raw, CreatedBy: u.Name, Undoes: w.undoes,
		Summary: change.Summary(plan.Changes), Currency: doc.Cost.Currency, Hour: doc.Cost.Hour, Seconds: doc.Seconds}
	if w.text.Name != "" {
		row.Template = w.text.Name + "@" + w.text.Version
	}
	id, err := s.store.AddProposal(ctx, row, proposalLife)
	if err != nil {
		return Proposal{}, err
	}
	return s.Proposal(ctx, id)
}
