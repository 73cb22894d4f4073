package proposing

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"undersail/internal/access"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Kept is a resource that outlived its stack on purpose, as people see it.
type Kept struct {
	Stack    string         `json:"stack"`
	Resource string         `json:"resource"`
	Type     string         `json:"type"`
	ID       string         `json:"id"`
	Account  string         `json:"account"`
	Region   string         `json:"region"`
	Want     map[string]any `json:"want"`
	Hour     float64        `json:"hour"`
	Month    float64        `json:"month"`
	Currency string         `json:"currency"`
	KeptAt   time.Time      `json:"kept_at"`
	// FoundAt is when it was found: it carries the mark of the stack, and was recorded nowhere.
	FoundAt *time.Time `json:"found_at,omitempty"`
	// Carries are the secrets of machines that it was on: whoever attaches it to one uses them.
	Carries []string `json:"carries,omitempty"`
}

// Kept lists what outlived its stack, with what it costs.
func (s *Proposing) Kept(ctx context.Context) ([]Kept, error) {
	list, err := s.store.AllKept(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading what was kept: %w", err)
	}
	out := make([]Kept, len(list))
	carried := map[string][]store.Carried{} // by account
	for i, k := range list {
		out[i] = shownKept(k)
		of, known := carried[k.Account]
		if !known {
			if of, err = s.store.Carried(ctx, k.Account); err != nil {
				return nil, fmt.Errorf("reading what is carried out in account %s: %w", k.Account, err)
			}
			carried[k.Account] = of
		}
		for _, c := range of {
			if c.Token == k.Token {
				out[i].Carries = append(out[i].Carries, c.Reference)
			}
		}
	}
	return out, nil
}

func shownKept(k store.Kept) Kept {
	return Kept{
		Stack:    k.Stack,
		Resource: k.Name,
		Type:     k.Type,
		ID:       k.ID(),
		Account:  k.Account,
		Region:   k.Region,
		Want:     k.Want,
		Hour:     k.Hour,
		Month:    k.Hour * price.HoursPerMonth,
		Currency: k.Currency,
		KeptAt:   k.KeptAt,
		FoundAt:  k.FoundAt,
	}
}

// Discard proposes to remove a kept resource for good. It is named by its id, or as
// STACK/RESOURCE where only one is.
func (s *Proposing) Discard(ctx context.Context, u people.User, name string) (Proposal, error) {
	k, err := s.findKept(ctx, name)
	if err != nil {
		return Proposal{}, err
	}
	if err := u.Must(access.Operate, k.Account); err != nil {
		return Proposal{}, err
	}
	st, err := s.store.Stack(ctx, k.StackID)
	if err != nil {
		return Proposal{}, fmt.Errorf("reading stack %s: %w", k.StackID, err)
	}
	r := &reading{stack: st}
	r, judged, err := s.discarding(ctx, r, k)
	if err != nil {
		return Proposal{}, err
	}
	if render.HasErrors(judged.Findings) {
		return Proposal{}, &refusal.Error{
			Kind:     refusal.Findings,
			Title:    k.Stack + "/" + k.Name + " cannot be removed",
			Remedy:   "mend what the findings name; nothing was removed",
			Findings: judged.Findings,
		}
	}
	return s.save(ctx, u, r, judged, state.KindDiscard)
}

func (s *Proposing) findKept(ctx context.Context, name string) (store.Kept, error) {
	list, err := s.store.AllKept(ctx)
	if err != nil {
		return store.Kept{}, fmt.Errorf("reading what was kept: %w", err)
	}
	var found []store.Kept
	var ids []string
	for _, k := range list {
		if !access.Sees(ctx, k.Account) {
			continue
		}
		if k.ID() == name || k.Stack+"/"+k.Name == name {
			found, ids = append(found, k), append(ids, k.ID())
		}
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return store.Kept{}, refusal.New(refusal.NotFound, "list them with: undersail kept",
			"nothing that is kept is called %s", name)
	}
	return store.Kept{}, refusal.New(refusal.Invalid, "give the id of one: "+strings.Join(ids, ", "),
		"%d kept resources are called %s", len(found), name)
}

// MoveKept gives something kept to another stack, which takes it over at its next
// proposal without making anything anew: under the name that the resource has in the
// template of that stack, as STACK/RESOURCE.
func (s *Proposing) MoveKept(ctx context.Context, u people.User, name, to string) (Kept, error) {
	stack, resource, ok := strings.Cut(to, "/")
	if !ok || !stackPattern.MatchString(stack) || len(stack) > 40 || !memberPattern.MatchString(resource) {
		return Kept{}, refusal.New(refusal.Invalid, "name the stack and its resource, such as archive/readings",
			"%q is no place to move to", to)
	}
	k, err := s.findKept(ctx, name)
	if err != nil {
		return Kept{}, err
	}
	if err := u.Must(access.Operate, k.Account); err != nil {
		return Kept{}, err
	}
	other, err := s.store.StackByName(ctx, stack)
	switch {
	case errors.Is(err, store.ErrNotFound): // it will be made
	case err != nil:
		return Kept{}, err
	case other.Account != k.Account:
		return Kept{}, refusal.New(refusal.Conflict, "move it to a stack of account "+k.Account,
			"stack %s is in account %s, and %s/%s in %s", stack, other.Account, k.Stack, k.Name, k.Account)
	default:
		rows, err := s.store.Resources(ctx, other.ID)
		if err != nil {
			return Kept{}, fmt.Errorf("reading the resources of stack %s: %w", other.ID, err)
		}
		if slices.ContainsFunc(rows, func(r store.Resource) bool { return r.Name == resource }) {
			return Kept{}, refusal.New(refusal.Conflict, "choose another name, or take that one out of the stack first",
				"stack %s has a resource %s already", stack, resource)
		}
	}
	alone := k.MovingTo != to || u.Actor().IsOf(k.MovingBy)
	err = s.store.MoveKept(ctx, k, stack, resource, alone, u.Who())
	switch {
	case errors.Is(err, store.ErrSecondPerson):
		if err := s.store.WishKept(ctx, k.Token, to, u.Who()); err != nil {
			return Kept{}, refusal.InTheWay(err, stack, u.Name)
		}
		s.journal.Done(ctx, u, "wish to move kept resource", k.Stack+"/"+k.Name, map[string]any{"to": to, "id": k.ID()})
		return Kept{}, refusal.New(refusal.Consent,
			fmt.Sprintf("ask somebody else to say the same within a day: undersail kept move %s %s", k.ID(), to),
			"account %s asks that somebody else than %s agrees before %s/%s is moved", k.Account, u.Name, k.Stack,
			k.Name)
	case errors.Is(err, store.ErrMoved):
		return Kept{}, refusal.New(refusal.Conflict, "list what is kept with: undersail kept",
			"%s/%s is not kept under this name any more: %s", k.Stack, k.Name, s.whereIs(ctx, k.Token))
	case err != nil:
		return Kept{}, refusal.InTheWay(err, stack, u.Name)
	}
	s.journal.Done(ctx, u, "move kept resource", k.Stack+"/"+k.Name, map[string]any{"to": to, "id": k.ID()})
	k.Stack, k.Name = stack, resource
	return shownKept(k), nil
}

// whereIs says what became of something that was kept.
func (s *Proposing) whereIs(ctx context.Context, token string) string {
	stack, name, kept, err := s.store.PlaceOf(ctx, token)
	switch {
	case err != nil || stack == "":
		return "it was removed"
	case kept:
		return fmt.Sprintf("somebody moved it, and it is kept as %s/%s", stack, name)
	}
	return fmt.Sprintf("stack %s took it over as %s", stack, name)
}

// memberPattern is the name of a resource or of a member of a repeated one.
var memberPattern = regexp.MustCompile(`^[a-z][a-z0-9_.]{0,60}(\[[^\x00-\x1f\]]{1,100}\])?$`)

// discarding works out the removal of one kept resource. It belongs to no stack any
// more; the proposal and its run are those of the stack that it was of.
func (s *Proposing) discarding(ctx context.Context, r *reading, k store.Kept) (*reading, proposal.Judged, error) {
	var none proposal.Judged
	adapter, account, err := s.accounts.Adapter(ctx, k.Account)
	if err != nil {
		return r, none, err
	}
	r.adapter, r.account, r.kept = adapter, account, []store.Kept{k}
	r.Stack = render.Stack{
		Name:    r.stack.Name,
		ID:      r.stack.ID,
		Account: r.stack.Account,
		Cloud:   account.Cloud,
		Region:  r.stack.Region,
		Tags:    account.Tags,
	}
	home, err := s.accounts.ReadOffers(ctx, account, k.Region)
	if err != nil {
		return r, none, err
	}
	r.Offers = offer.At(*home)
	learned, err := s.learned(ctx, account.Name)
	if err != nil {
		return r, none, err
	}
	r.Durations = proposal.Durations{Learned: learned, Rate: max(account.ClockRate, 0.001)}
	r.Discards, r.DiscardsAs = k.Token, k.Stack+"/"+k.Name
	r.Recorded = []change.Recorded{{
		Name:       k.Name,
		Type:       k.Type,
		Region:     r.elsewhere(k.Region),
		Want:       k.Want,
		Attributes: k.Attributes,
		Healthy:    true,
	}}
	r.rows = []store.Resource{k.Resource(k.Name)}
	changed, err := s.usedElsewhere(ctx, r, r.Facts.Remove())
	if err != nil {
		return r, none, err
	}
	r.rows = nil
	for i := range changed.Plan.Changes {
		changed.Plan.Changes[i].Reason = fmt.Sprintf("it was kept since %s, and is removed for good",
			k.KeptAt.Format(time.DateOnly))
		if k.FoundAt != nil {
			changed.Plan.Changes[i].Reason = fmt.Sprintf("it was found on %s with the mark of stack %s and recorded "+
				"nowhere, and is removed for good", k.FoundAt.Format(time.DateOnly), k.Stack)
		}
	}
	if r.stack.RetiredAt == nil {
		changed.Read = append(changed.Read, render.Finding{
			Severity: lang.Note,
			Code:     "kept",
			Place:    k.Name,
			Message:  "stack " + k.Stack + " is still there",
			Remedy:   "take it over by its name in the template, if it is wanted again",
		})
	}
	return r, changed.Judge(nil), nil
}

// discardNow works the removal of a kept resource out once more; one that is kept
// no longer makes the proposal stale.
func (s *Proposing) discardNow(ctx context.Context, r *reading,
	d proposal.Document) (*reading, proposal.Judged, error) {
	list, err := s.store.KeptOf(ctx, r.stack.ID)
	if err != nil {
		return r, proposal.Judged{}, fmt.Errorf("reading what was kept of stack %s: %w", r.stack.ID, err)
	}
	for _, k := range list {
		if len(d.Changes) == 1 && k.Name == d.Changes[0].Resource && k.Token == d.Discards &&
			(d.DiscardsAs == "" || d.DiscardsAs == k.Stack+"/"+k.Name) {
			return s.discarding(ctx, r, k)
		}
	}
	return r, proposal.Judged{}, refusal.New(refusal.Stale, "list what is kept with: undersail kept",
		"it is not kept any more as it was: %s", s.whereIs(ctx, d.Discards))
}

// discarded are the kept resources that a run removes, as its steps act on them.
func (r *reading) discarded() []store.Resource {
	rows := make([]store.Resource, len(r.kept))
	for i, k := range r.kept {
		rows[i] = k.Resource(k.Name)
	}
	return rows
}
