package stacks

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"undersail/internal/access"
	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/fault"
	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// How something is otherwise.
const (
	altered    = "altered"
	missing    = "missing"
	unrecorded = "unrecorded"
	ahead      = "ahead"  // a run that is not over by the records has made it already
	unseen     = "unseen" // the cloud did not answer
)

// BeQuiet lets the service and its engine change nothing more.
func (s *Stacks) BeQuiet(ctx context.Context, q Quiet) error {
	s.quiet.mu.Lock()
	defer s.quiet.mu.Unlock()
	q.Differs = []Differs{}
	s.quiet.now = q
	return s.engine.BeQuiet(ctx)
}

// Quiet tells whether the service is quiet, and what it found.
func (s *Stacks) Quiet(ctx context.Context) Quiet {
	s.quiet.mu.Lock()
	defer s.quiet.mu.Unlock()
	q := s.quiet.now
	q.Differs = slices.DeleteFunc(slices.Clone(q.Differs), func(d Differs) bool { return !access.Sees(ctx, d.Account) })
	return q
}

// MayChange refuses what would change something while the service is quiet.
func (s *Stacks) MayChange() error {
	s.quiet.mu.Lock()
	defer s.quiet.mu.Unlock()
	if s.quiet.now.Why == "" {
		return nil
	}
	return refusal.New(refusal.Conflict,
		"see what differs with: undersail quiet; if this copy is the one that goes on, end every other one, and "+
			"start it once with: undersail serve --in-charge",
		"the service is quiet and changes nothing: %s", s.quiet.now.Why)
}

// TakeCharge ends being quiet: a person said that this copy goes on.
func (s *Stacks) TakeCharge(ctx context.Context) {
	s.quiet.mu.Lock()
	q := s.quiet.now
	s.quiet.now = Quiet{}
	s.quiet.mu.Unlock()
	counts := map[string]int{}
	for _, d := range q.Differs {
		counts[d.How]++
	}
	s.journal.Done(ctx, people.Host(), "take charge", "service", map[string]any{
		"why":     q.Why,
		"records": q.Since,
		"differs": counts,
	})
}

// LookAtAll looks at every stack of every account, and notes what is otherwise than the
// records say, with who did it as far as that was written beside the database. What carries our
// mark and is recorded nowhere is listed with what is kept.
func (s *Stacks) LookAtAll(ctx context.Context, done []engine.Deed) {
	accounts, err := s.store.Accounts(ctx)
	if err != nil {
		s.log.Error("the stacks could not be looked at", "error", err)
		return
	}
	byUs := s.unknownDeeds(ctx, done)
	var found []Differs
	var mu sync.Mutex
	all, looking := fault.WithContext(ctx)
	all.SetLimit(4)
	for _, a := range accounts {
		if a.ClosedAt != nil {
			continue
		}
		all.Go(func() error {
			var differs []Differs
			// One that breaks is told with the others, and ends none of them.
			err := fault.Caught(func() error { differs = s.lookAtAccount(looking, a, byUs); return nil })
			if err != nil {
				fault.Log(s.log, slog.LevelError, "an account could not be looked at", err, "account", a.Name)
				differs = []Differs{{Account: a.Name, How: unseen, What: err.Error()}}
			}
			mu.Lock()
			defer mu.Unlock()
			found = append(found, differs...)
			return nil
		})
	}
	_ = all.Wait() // what could not be seen is among what was found
	slices.SortFunc(found, func(a, b Differs) int {
		return cmp.Or(cmp.Compare(a.Account, b.Account), cmp.Compare(a.Stack, b.Stack),
			cmp.Compare(a.Resource, b.Resource))
	})
	s.quiet.mu.Lock()
	defer s.quiet.mu.Unlock()
	s.quiet.now.Looked, s.quiet.now.Differs = true, append([]Differs{}, found...)
	for _, d := range found {
		s.log.Warn("something is otherwise than the records say", "stack", d.Stack, "resource", d.Resource, "how",
			d.How, "what", d.What, "by", d.By)
	}
}

// unknownDeeds are what this service did last with each thing, as far as the records do not
// know of it, by token.
func (s *Stacks) unknownDeeds(ctx context.Context, done []engine.Deed) map[string]engine.Deed {
	out := map[string]engine.Deed{}
	for _, d := range slices.Backward(done) {
		if d.InCharge {
			break // what stands before was told then
		}
		if has, err := s.store.HasWrites(ctx, d.Run, d.Writes); err != nil || has {
			break // what was done before is known too
		}
		if _, later := out[d.Token]; !later {
			out[d.Token] = d
		}
	}
	return out
}

// lookAtAccount looks at the stacks of one account.
func (s *Stacks) lookAtAccount(ctx context.Context, a store.Account, byUs map[string]engine.Deed) (out []Differs) {
	adapter, _, err := s.accounts.Adapter(ctx, a.Name)
	if err == nil {
		_, err = adapter.WhoAmI(ctx)
	}
	if err != nil {
		return []Differs{{Account: a.Name, How: unseen, What: "the account cannot be looked at: " + err.Error()}}
	}
	summaries, err := s.store.SummariesOf(ctx, a.Name)
	if err != nil {
		return []Differs{{Account: a.Name, How: unseen, What: err.Error()}}
	}
	for _, m := range summaries {
		differs, err := s.lookAtStack(ctx, adapter, a, m.ID, byUs)
		if err != nil {
			differs = append(differs, Differs{Account: a.Name, Stack: m.Name, How: unseen, What: err.Error()})
		}
		out = append(out, differs...)
	}
	return append(out, s.lookForDeeds(ctx, adapter, a, byUs)...)
}

func by(d engine.Deed, known bool) string {
	if !known {
		return "nobody known"
	}
	return fmt.Sprintf("our run %d on %s, unknown to the records", d.Run, d.At.Local().Format(time.DateTime))
}

func (s *Stacks) lookAtStack(ctx context.Context, adapter cloud.Adapter, a store.Account, id string,
	byUs map[string]engine.Deed) (out []Differs, err error) {
	st, err := s.store.Stack(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("reading stack %s: %w", id, err)
	}
	rows, err := s.store.Resources(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("reading the resources of stack %s: %w", id, err)
	}
	live, err := s.Look(ctx, adapter, a, st, rows)
	if err != nil {
		return nil, err
	}
	conduct, err := s.Conduct(ctx, st, rows)
	if err != nil {
		return nil, err
	}
	middle, err := s.inTheMiddle(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, r := range rows {
		deed, known := byUs[r.Token]
		d := Differs{Account: a.Name, Stack: st.Name, Resource: r.Name, By: by(deed, known)}
		if !known && middle.has(r.Token) {
			d.By = fmt.Sprintf("our run %d, in its middle", middle.run)
		}
		d.ID, _ = r.Attributes["id"].(string)
		l, there := live.Live[r.Name]
		if !there {
			if !Begun(r) {
				d.How, d.What = missing, "the cloud has it no more"
				out = append(out, d)
			}
			continue
		}
		if Begun(r) {
			continue // it is there, and the run that made it goes on with it
		}
		for _, f := range change.Strayed(r.Type, r.Want, l.Has, conduct[r.Name].Leave) {
			d.How, d.What = altered, fmt.Sprintf("%s is %v, and is recorded as %v", f.Name, f.After, f.Before)
			out = append(out, d)
		}
	}
	for _, l := range live.marked {
		recorded := slices.ContainsFunc(rows, func(r store.Resource) bool { return r.Token == l.Token })
		if !recorded && middle.steps[l.Token] && l.Phase != cloud.Removing {
			out = append(out, Differs{
				Account:  a.Name,
				Stack:    st.Name,
				Resource: l.Tags[cloud.TagResource],
				ID:       l.ID,
				How:      ahead,
				What:     "made already; the run goes on with it",
				By:       fmt.Sprintf("our run %d, in its middle", middle.run),
			})
		}
	}
	kept, err := s.store.KeptOf(ctx, id)
	for _, k := range kept {
		if k.FoundAt != nil {
			deed, known := byUs[k.Token]
			out = append(out, Differs{
				Account:  a.Name,
				Stack:    st.Name,
				Resource: k.Name,
				ID:       k.ID(),
				How:      unrecorded,
				What:     resource.Words(k.Type) + "; see: undersail kept",
				By:       by(deed, known),
			})
		}
	}
	return out, err
}

// middle is a run that was not over by the records, with the tokens of its steps, and of those
// that were begun.
type middle struct {
	run          int64
	steps, begun map[string]bool
}

func (m middle) has(token string) bool { return m.begun[token] }

func (s *Stacks) inTheMiddle(ctx context.Context, stackID string) (m middle, err error) {
	run, err := s.store.LastRun(ctx, stackID)
	if errors.Is(err, store.ErrNotFound) || err == nil && run.EndedAt != nil {
		return m, nil
	}
	if err != nil {
		return m, err
	}
	steps, err := s.store.Steps(ctx, run.ID)
	m.run, m.steps, m.begun = run.ID, map[string]bool{}, map[string]bool{}
	for _, st := range steps {
		m.steps[st.Token] = true
		m.begun[st.Token] = m.begun[st.Token] || st.IntentAt != nil
	}
	return m, err
}

// lookForDeeds looks for what was made of stacks that the records do not know at all.
func (s *Stacks) lookForDeeds(ctx context.Context, adapter cloud.Adapter, a store.Account,
	byUs map[string]engine.Deed) (out []Differs) {
	ids := map[string]bool{}
	for _, d := range byUs {
		if _, err := s.store.Stack(ctx, d.StackID); errors.Is(err, store.ErrNotFound) {
			ids[d.StackID] = true
		}
	}
	for id := range ids {
		for _, region := range a.Regions {
			live, err := cloud.Collect(adapter.Search(ctx, cloud.Query{
				Region: region,
				Tags:   map[string]string{cloud.TagStackID: id},
			}))
			if err == nil {
				err = s.listUnrecorded(ctx, a, live, nil)
			}
			if err != nil {
				out = append(out, Differs{Account: a.Name, How: unseen, What: "region " + region + ": " + err.Error()})
				continue
			}
			for _, l := range live {
				deed, known := byUs[l.Token]
				out = append(out, Differs{
					Account:  a.Name,
					Stack:    l.Tags[cloud.TagStack],
					Resource: l.Tags[cloud.TagResource],
					ID:       l.ID,
					How:      unrecorded,
					What:     resource.Words(l.Type) + " of an unknown stack; see: undersail kept",
					By:       by(deed, known),
				})
			}
		}
	}
	return out
}
