package proposing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/access"
	"undersail/internal/core/budget"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/engine"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/stacks"
	"undersail/internal/store"
	"undersail/internal/templates"
)

// What a run is given in the middle of it, values or agreements to uses of secrets, is a
// small proposal on it: judged by the same rules, with the same consents, and accepted by
// whom the account asks for. What asks for nothing new is given at once.

// gift judges what a run is given, and gives it or proposes it.
func (s *Proposing) gift(ctx context.Context, u people.User, run store.Run, doc proposal.Document,
	template *lang.Template, values map[string]any) (stacks.Run, error) {
	account, err := s.accounts.Find(ctx, run.Account)
	if err != nil {
		return stacks.Run{}, err
	}
	p, err := s.store.Proposal(ctx, run.ProposalID)
	if err != nil {
		return stacks.Run{}, fmt.Errorf("reading proposal %d: %w", run.ProposalID, err)
	}
	agreed, err := s.AgreementOf(p, run)
	if err != nil {
		return stacks.Run{}, err
	}
	before := maps.Clone(doc.Inputs)
	maps.Copy(before, run.Given)
	after := maps.Clone(before)
	maps.Copy(after, values)
	was, err := s.judgedWith(ctx, account, doc, template, before)
	if err != nil {
		return stacks.Run{}, err
	}
	now, err := s.judgedWith(ctx, account, doc, template, after)
	if err != nil {
		return stacks.Run{}, err
	}
	uses, err := s.usesWith(ctx, run, doc, template, after)
	if err != nil {
		return stacks.Run{}, err
	}
	if refused := newErrors(was.findings, now.findings); len(refused) > 0 {
		title := "what the run would go on with does not do"
		if names := strings.Join(slices.Sorted(maps.Keys(values)), ", "); names != "" {
			title = "the value of " + names + " does not do"
		}
		return stacks.Run{}, &refusal.Error{
			Kind:     refusal.Findings,
			Title:    title,
			Remedy:   "give another one",
			Findings: refused,
		}
	}
	d := doc
	d.Inputs, d.Gives, d.GivesTo, d.Uses, d.UsesListed = after, values, run.ID, uses, true
	d.Changes, d.Actions, d.Draw, d.Reserves, d.Discards, d.AuthorRoles = []change.Change{}, nil, nil, nil, "",
		u.Grants().Strings()
	d.SecondPerson = doc.SecondPerson || account.SecondPerson
	d.Consents, d.Given = nil, slices.Concat(doc.Consents, doc.Given)
	for _, c := range now.consents {
		if !slices.Contains(was.consents, c) && !slices.Contains(d.Given, c) {
			d.Consents = append(d.Consents, c)
		}
	}
	d.Consents = append(d.Consents, asksForUses(d.Uses, agreed)...)
	if len(d.Consents) == 0 && !d.SecondPerson {
		return s.give(ctx, u, run, values, nil, 0,
			u.Name+" gave the value of "+strings.Join(slices.Sorted(maps.Keys(values)), ", "))
	}
	d.Findings = []render.Finding{}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		d.Findings = append(d.Findings, render.Finding{
			Severity: lang.Note,
			Code:     "given",
			Place:    "inputs." + name,
			Message:  fmt.Sprintf("run %d goes on with %s: %v", run.ID, name, values[name]),
		})
	}
	id, err := s.proposeGift(ctx, u, run, d)
	if err != nil {
		return stacks.Run{}, err
	}
	return stacks.Run{}, giftAsks(id, d)
}

// giftAsks says what a small proposal waits for.
func giftAsks(id int64, d proposal.Document) *refusal.Error {
	var names, flags []string
	var findings []render.Finding
	for _, c := range d.Consents {
		names, flags = append(names, c.Name), append(flags, " --agree "+c.Name)
		findings = append(findings, asksFor(id, c))
	}
	title := fmt.Sprintf("the run goes on when proposal %d is accepted, which asks for %s", id,
		strings.Join(names, ", "))
	if len(names) == 0 {
		title = fmt.Sprintf("the run goes on when somebody else accepts proposal %d", id)
	}
	return &refusal.Error{
		Kind:     refusal.Consent,
		Title:    title,
		Remedy:   fmt.Sprintf("look at it, and: undersail accept %d%s", id, strings.Join(flags, "")),
		Findings: findings,
	}
}

// proposeGift keeps a small proposal. Who asks a second time what a run waits for is shown
// what somebody may be deciding on already.
func (s *Proposing) proposeGift(ctx context.Context, u people.User, run store.Run, d proposal.Document) (int64, error) {
	open, err := s.store.Gifts(ctx, run.ID)
	if err != nil {
		return 0, fmt.Errorf("reading the values given to run %d: %w", run.ID, err)
	}
	for _, id := range open {
		_, was, err := s.stacks.Document(ctx, id)
		if err != nil {
			return 0, err
		}
		if len(d.Gives)+len(was.Gives) == 0 && use.DigestOf(was.Uses) == use.DigestOf(d.Uses) &&
			slices.Equal(was.Consents, d.Consents) && was.SecondPerson == d.SecondPerson {
			return id, nil
		}
	}
	raw, err := json.Marshal(d)
	if err != nil {
		return 0, fmt.Errorf("encode proposal: %w", err)
	}
	summary := "agrees to uses of secrets"
	if names := strings.Join(slices.Sorted(maps.Keys(d.Gives)), ", "); names != "" {
		summary = "gives " + names
	}
	id, err := s.store.AddProposal(ctx,
		store.Proposal{
			StackID:   run.StackID,
			Kind:      state.KindGive,
			Document:  raw,
			CreatedBy: u.Name,
			ShapedBy:  []string{u.Name},
			GivesTo:   &run.ID,
			Summary:   summary,
			Template:  d.Template.Name + "@" + d.Template.Version,
			Currency:  d.Cost.Currency,
			Hour:      d.Cost.Hour,
		},
		proposalLife)
	if err == nil {
		s.journal.Done(ctx, u, "propose", run.Stack, map[string]any{
			"proposal": id,
			"kind":     state.KindGive,
			"run":      run.ID,
			"summary":  summary,
		})
	}
	return id, err
}

// verdict is what is to be said of a run with some inputs.
type verdict struct {
	findings []render.Finding
	consents []render.Consent
}

// judgedWith judges what a run makes with some inputs.
func (s *Proposing) judgedWith(ctx context.Context, account store.Account, doc proposal.Document,
	template *lang.Template, inputs map[string]any) (v verdict, err error) {
	rules, err := s.templates.Rules(ctx)
	if err != nil {
		return v, err
	}
	f := proposal.Facts{
		Stack:     doc.Stack,
		Template:  template,
		Text:      doc.Template,
		TextBy:    doc.TextBy,
		Inputs:    inputs,
		Secrets:   doc.Secrets,
		Found:     doc.Found,
		Stacks:    doc.Stacks,
		Offers:    offer.Everywhere{Home: &doc.Offers, Elsewhere: doc.Elsewhere},
		Rules:     rules,
		Today:     s.engine.Now().UTC().Format("2006-01-02"),
		Durations: proposal.Durations{Rate: max(account.ClockRate, 0.001)},
		Most:      mostResources,
	}
	if account.MostMonth != nil {
		f.MostMonth = *account.MostMonth
	}
	err = s.turns.Compute(ctx, func(b *budget.Budget) {
		judged := f.Render(b).Judge(b.Over)
		v.findings, v.consents = judged.Findings, judged.Consents
	})
	return v, err
}

// usesWith lists what a run opens secrets for with some inputs, as far as what is there tells.
func (s *Proposing) usesWith(ctx context.Context, run store.Run, doc proposal.Document, template *lang.Template,
	inputs map[string]any) (uses []use.Use, err error) {
	rows, err := s.store.Resources(ctx, run.StackID)
	if err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", run.StackID, err)
	}
	known := map[string]map[string]any{}
	for _, row := range rows {
		if row.MadeAt != nil {
			known[row.Name] = row.Attributes
		}
	}
	err = s.turns.Compute(ctx, func(b *budget.Budget) {
		rendering := render.Render(b, render.Request{
			Template: template,
			Stack:    doc.Stack,
			Inputs:   inputs,
			Secrets:  doc.Secrets,
			Offers:   &doc.Offers,
			Stacks:   doc.Stacks,
			Most:     mostResources,
			Known: func(r render.Resource) map[string]any {
				if found, ok := doc.Found[r.Name]; ok {
					return found
				}
				return known[r.Name]
			},
		})
		place := stacks.PlaceOf(doc.TextBy, doc.Template.Digest, doc.Keys)
		place.Carried = doc.Carried
		uses = use.Of(rendering, place)
	})
	return uses, err
}

// newErrors lists the errors that are not among those of before.
func newErrors(before, now []render.Finding) (out []render.Finding) {
	for _, f := range now {
		if f.Severity == lang.Error && !slices.Contains(before, f) {
			out = append(out, f)
		}
	}
	return out
}

// give lets a run go on with what it is given.
func (s *Proposing) give(ctx context.Context, u people.User, run store.Run, values map[string]any, agreed []use.Use,
	id int64, text string) (stacks.Run, error) {
	after := run
	after.Given = maps.Clone(run.Given)
	if after.Given == nil {
		after.Given = map[string]any{}
	}
	maps.Copy(after.Given, values)
	after.Agreed = slices.Concat(run.Agreed, agreed)
	err := s.store.Give(ctx, run.ID, run.StackID,
		store.Gift{
			Values:   values,
			Agreed:   agreed,
			Before:   run,
			Seal:     s.sealed.SealOf(forGiven, givenParts(after)...),
			Text:     text,
			Proposal: id,
			Who:      u.Who(),
		}, engine.Grace, s.engine.Enqueue(ctx))
	if errors.Is(err, store.ErrConflict) {
		return stacks.Run{}, refusal.New(refusal.Conflict, "look at it with: undersail watch "+fmt.Sprint(run.ID),
			"run %d does not wait for this any more", run.ID)
	}
	if errors.Is(err, store.ErrRights) {
		return stacks.Run{}, refusal.InTheWay(err, run.Stack, u.Name)
	}
	if err == nil {
		s.engine.Given(run.ID, slices.Sorted(maps.Keys(values)))
		s.journal.Done(ctx, u, "give values", run.Stack, map[string]any{
			"run":      run.ID,
			"inputs":   slices.Sorted(maps.Keys(values)),
			"uses":     len(agreed),
			"proposal": id,
		})
	}
	return s.stacks.RunOr(ctx, run.ID, err)
}

// carryGift gives a run what an accepted small proposal says.
func (s *Proposing) carryGift(ctx context.Context, u people.User, id int64) (stacks.Run, error) {
	p, d, err := s.stacks.Document(ctx, id)
	if err != nil {
		return stacks.Run{}, err
	}
	if err := s.holds(ctx, p); err != nil {
		return stacks.Run{}, err
	}
	author, err := s.authorOf(ctx, p, d)
	if err != nil {
		return stacks.Run{}, err
	}
	if !u.May(access.Operate, p.Account) && !author.Grants.May(access.Operate, p.Account) {
		return stacks.Run{}, refusal.New(refusal.Forbidden, "let somebody propose it who operates the account",
			"neither %s nor %s operates account %s", u.Name, p.CreatedBy, p.Account)
	}
	run, err := s.store.Run(ctx, d.GivesTo)
	if err != nil {
		return stacks.Run{}, refusal.Missing(err, "run", fmt.Sprint(d.GivesTo), "list them with: undersail runs")
	}
	var agreed []use.Use
	for _, x := range d.Uses {
		if x.New {
			agreed = append(agreed, x)
		}
	}
	parts := []string{}
	if len(d.Gives) > 0 {
		parts = append(parts, p.CreatedBy+" gave the value of "+strings.Join(slices.Sorted(maps.Keys(d.Gives)), ", "))
	}
	if len(agreed) > 0 {
		parts = append(parts, fmt.Sprintf("%d uses of secrets were agreed to", len(agreed)))
	}
	return s.give(ctx, u, run, d.Gives, agreed, id, strings.Join(parts, "; ")+", accepted by "+p.DecidedBy)
}

// agreeOn proposes to agree to what a run waits for that nobody agreed to.
func (s *Proposing) agreeOn(ctx context.Context, u people.User, run store.Run) (Proposal, error) {
	_, doc, err := s.stacks.Document(ctx, run.ProposalID)
	if err != nil {
		return Proposal{}, err
	}
	template, found := templates.Read(doc.Template.Bundle())
	if template == nil {
		return Proposal{}, fmt.Errorf("read the template of run %d: %w", run.ID, found)
	}
	_, err = s.gift(ctx, u, run, doc, template, nil)
	var asks *refusal.Error
	if !errors.As(err, &asks) || asks.Kind != refusal.Consent {
		return Proposal{}, err
	}
	open, err := s.store.Gifts(ctx, run.ID)
	if err != nil || len(open) == 0 {
		return Proposal{}, err
	}
	return s.Show(ctx, open[0])
}

// Give gives the values that the run of a stack waits for, by the names of its
// inputs, and lets it go on. They are recorded as inputs of the stack. Values that ask for a
// consent or a second person are a small proposal: they are given when that is accepted.
func (s *Proposing) Give(ctx context.Context, u people.User, stack string, values map[string]any) (stacks.Run, error) {
	st, err := s.stacks.Living(ctx, stack)
	if err != nil {
		return stacks.Run{}, err
	}
	if err := u.Must(access.Operate, st.Account); err != nil {
		return stacks.Run{}, err
	}
	run, err := s.store.LastRun(ctx, st.ID)
	if err != nil {
		return stacks.Run{}, refusal.Missing(err, "run of stack", stack, "propose it first")
	}
	if !stacks.MayBeGiven(run) {
		return stacks.Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does",
			"run %d of stack %s waits for no value", run.ID, stack)
	}
	_, doc, err := s.stacks.Document(ctx, run.ProposalID)
	if err != nil {
		return stacks.Run{}, err
	}
	if doc.Template.Source == "" { // it takes away, and renders nothing
		return stacks.Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does",
			"run %d of stack %s waits for no value", run.ID, stack)
	}
	template, found := templates.Read(doc.Template.Bundle())
	if template == nil {
		return stacks.Run{}, fmt.Errorf("read the template of run %d: %w", run.ID, found)
	}
	waits := stacks.AwaitedBy(run, doc)
	if len(waits) == 0 {
		return stacks.Run{}, refusal.New(refusal.Conflict, "undersail watch "+fmt.Sprint(run.ID)+" tells what it does",
			"run %d of stack %s waits for no value", run.ID, stack)
	}
	names := make([]string, len(waits))
	for i, w := range waits {
		names[i] = w.Name
	}
	remedy := "give what the run waits for: " + strings.Join(names, ", ")
	if len(values) == 0 {
		return stacks.Run{}, refusal.New(refusal.Invalid, remedy, "no value is given")
	}
	values = maps.Clone(values)
	for _, name := range slices.Sorted(maps.Keys(values)) {
		in := template.Input(name)
		if in == nil || !in.Later {
			return stacks.Run{}, refusal.New(refusal.Invalid, remedy, "`%s` is no value that is given later", name)
		}
		if !slices.Contains(names, name) {
			known := doc.Inputs[name]
			if v, now := run.Given[name]; now {
				known = v
			}
			return stacks.Run{}, refusal.New(refusal.Conflict, "when the run is over, propose with another one",
				"%s has its value: %v", name, known)
		}
		if values[name] = typed(in, values[name]); values[name] == nil {
			return stacks.Run{}, refusal.New(refusal.Invalid, remedy, "the value of %s is empty", name)
		}
	}
	return s.gift(ctx, u, run, doc, template, values)
}

// typed reads a text as what its input wants: who types a value has only texts.
func typed(in *lang.Input, v any) any {
	text, is := v.(string)
	switch {
	case is && strings.TrimSpace(text) == "":
		return nil
	case !is || in.Schema["type"] == "string":
		return v
	}
	return in.Read(lang.Typed(in.Name, text))
}
