package proposing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// identityLife is how long what a cloud said of an account is taken as it was said.
const identityLife = 10 * time.Minute

// spare is what a run may take longer than expected before credentials end.
const spare = 1.25

// accountBounds finds what the account of a proposal does not allow: a region, a right
// that it lacks, an end that comes before the run's, a budget that the bill passes.
func (s *Proposing) accountBounds(ctx context.Context, r *reading, j proposal.Judged) ([]render.Finding, error) {
	if !r.offline && (r.account.TestedAt == nil || s.engine.Now().Sub(*r.account.TestedAt) > identityLife) {
		_ = s.accounts.Try(ctx, r.account) // what it does not accept, the calls of the proposal say better
		a, err := s.accounts.Find(ctx, r.account.Name)
		if err != nil {
			return nil, err
		}
		r.account = a
	}
	var out []render.Finding
	find := func(severity lang.Severity, code, place, remedy, format string, args ...any) {
		out = append(out, render.Finding{
			Severity: severity,
			Code:     code,
			Place:    place,
			Message:  fmt.Sprintf(format, args...),
			Remedy:   remedy,
		})
	}
	a := r.account
	if err := allowed(a, r.stack.Region); err != nil && r.isNew {
		find(lang.Error, "region-not-allowed", "region", err.Remedy, "%s", err.Title)
	}
	s.ends(a, j, find)
	identity := accounts.IdentityOf(a)
	for _, kind := range lacks(identity, j.Plan.Changes, r.Offers.Home) {
		find(lang.Error, "permission", "account",
			fmt.Sprintf("ask whoever runs the account at %s for the right to make it, then: undersail accounts test %s",
				a.Cloud, a.Name),
			"the credentials of account %s (%s) may not make a %s", a.Name, orNone(strings.Join(identity.Roles, ", ")),
			kind)
	}
	if a.LeaseSeconds > 0 && r.isNew {
		find(lang.Note, "lease", "account", "plan for that, or ask an administrator for another lease",
			"stacks of account %s have a lease of %s", a.Name, resource.FormatSpan(a.LeaseSeconds))
	}
	return out, s.overBudget(ctx, r, j, find)
}

type finder func(severity lang.Severity, code, place, remedy, format string, args ...any)

// ends tells of credentials and of accounts that end before a run would.
func (s *Proposing) ends(a store.Account, j proposal.Judged, find finder) {
	if j.Plan.Nothing() {
		return
	}
	over := s.engine.Now().Add(time.Duration(j.Seconds * spare * float64(time.Second)))
	for _, x := range []struct {
		at                 *time.Time
		code, what, remedy string
	}{
		{accounts.IdentityOf(a).Ends, "credentials-end", "the credentials of account " + a.Name,
			"renew them first: undersail accounts renew " + a.Name},
		{a.EndsAt, "account-ends", "the lab account " + a.Name,
			"use another account, or make it last longer: undersail accounts set " + a.Name + " --ends DATE"},
	} {
		switch {
		case x.at == nil:
		case x.at.Before(over):
			find(lang.Error, x.code, "account", x.remedy, "%s end %s, and the run would take until %s", x.what,
				x.at.UTC().Format("2006-01-02 15:04 MST"), over.UTC().Format("2006-01-02 15:04 MST"))
		case x.at.Before(over.Add(7 * 24 * time.Hour)):
			find(lang.Note, x.code, "account", x.remedy, "%s end %s", x.what, x.at.UTC().Format("2006-01-02 15:04 MST"))
		}
	}
}

// lacks names the types that are to be made and that the rights do not include.
func lacks(i accounts.Identity, changes []change.Change, o *offer.Offers) []string {
	var out []string
	for _, c := range changes {
		if o != nil && !slices.Contains(o.Types, c.Type) {
			continue // the cloud has no such thing, which is told
		}
		if i.Makes != nil && (c.Change == change.Create || c.Change == change.Rebuild) &&
			!slices.Contains(i.Makes, c.Type) && !slices.Contains(out, c.Type) {
			out = append(out, c.Type)
		}
	}
	return out
}

// overBudget warns where a month of everything in an account would cost more than may be
// spent in it.
func (s *Proposing) overBudget(ctx context.Context, r *reading, j proposal.Judged, find finder) error {
	if r.account.Budget == nil || j.Cost.Hour <= j.CostNow.Hour {
		return nil
	}
	summaries, err := s.store.SummariesOf(ctx, r.account.Name)
	if err != nil {
		return fmt.Errorf("reading the stacks of account %s: %w", r.account.Name, err)
	}
	month := j.Cost.Hour
	for _, m := range summaries {
		if m.ID != r.stack.ID {
			month += m.Hour
		}
	}
	if month *= resource.HoursPerMonth; month > *r.account.Budget {
		find(lang.Warning, "budget", "account",
			"make it smaller, retire what is not needed, or ask for a larger budget",
			"a month of everything in account %s would cost about %.0f %s, and its budget is %.0f", r.account.Name,
			month, j.Cost.Currency, *r.account.Budget)
	}
	return nil
}

func orNone(text string) string {
	if text == "" {
		return "no roles told"
	}
	return text
}

// allowed says of a region that an account's stacks may not be there.
func allowed(a store.Account, region string) *refusal.Error {
	if len(a.AllowedRegions) > 0 && !slices.Contains(a.AllowedRegions, region) {
		return refusal.New(refusal.Invalid,
			"choose one of "+strings.Join(a.AllowedRegions, ", ")+", or ask an administrator",
			"account %s may not have stacks in region %s", a.Name, region)
	}
	return nil
}

// unreachedTasks finds tasks that cannot be run, since no packets from here reach the
// machines of the account.
func (r *reading) unreachedTasks(c proposal.Changed) proposal.Changed {
	if !r.account.Unreached {
		return c
	}
	for _, ch := range c.Plan.Changes {
		t, _ := resource.ByName(ch.Type)
		if t.Own && (ch.Change == change.Create || ch.Change == change.Alter || ch.Change == change.Rebuild) {
			c.Read = append(slices.Clone(c.Read), render.Finding{
				Severity: lang.Error,
				Code:     "not-reached",
				Place:    ch.Resource,
				Message: fmt.Sprintf("no packets from here reach the machines of account %s, so nothing can be "+
					"run on them", r.account.Name),
				Remedy: "do without it, or let packets through and say so with: undersail accounts set " +
					r.account.Name + " --unreached=false",
			})
		}
	}
	return c
}
