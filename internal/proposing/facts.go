package proposing

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/sealed"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

// reading is the facts of a proposal while they are read, with the records that
// they are read from.
type reading struct {
	proposal.Facts
	user    people.User // who asks
	stack   store.Stack
	isNew   bool // it was never applied
	offline bool // no cloud is called
	leaves  bool // it only removes: of what a region sells the prices matter, and nothing else
	// reserves are what proposals of other stacks take in the account.
	reserves []accounts.Reserve
	account  store.Account
	adapter  cloud.Adapter
	rows     []store.Resource
	live     stacks.Observed
	kept     []store.Kept // what it may take over
	replaced []string     // what is recorded and missing, and may be taken over as it was found
	// versions are the newest ones of the secrets of stacks of the name.
	versions map[string]int
	undoes   *int64    // the run that is undone
	based    bool      // the newest run of the stack was read
	looked   time.Time // when the cloud was asked first, by the database's clock
	// reads are the stacks whose outputs are read, as they were then.
	reads []store.Read
	fresh map[string]bool // tokens of what a failed run made
	// undone are the runs that an undoing undoes, the newest first, and whole is what the stack
	// was the last time before them; returns are the names under which kept things come back, by
	// their tokens, becomes those of renamed ones, by the names that they have now.
	undone           []undone
	whole            *store.Proposal
	returns, becomes map[string]string
	// handed are the secrets that other stacks hand over, by their names among ours, as far
	// as they are new; handedFrom are the secrets that each is made of.
	handed     map[string]sealed.Plain
	handedFrom map[string][]string
	// lastKeys are the named key pairs that the stack was last applied with.
	lastKeys map[string]string
	// undoneUses are the uses of what the stack was before the run that is undone: they were
	// agreed to then.
	undoneUses []use.Use
}

// asRecorded is what is recorded of the stack, as the cloud has it. Conduct is how
// its resources behave since the stack was last applied.
func (r *reading) asRecorded(conduct map[string]render.Resource) []change.Recorded {
	var out []change.Recorded
	for _, row := range r.rows {
		l, there := r.live.Live[row.Name]
		if !there && stacks.Begun(row) && r.Template != nil {
			continue // it was begun, and is proved absent
		}
		wreck, _ := row.Attributes["broken"].(bool)
		c, known := conduct[strings.TrimSuffix(row.Name, change.OldName(""))]
		x := change.Recorded{
			Name:       row.Name,
			Type:       row.Type,
			Declared:   row.Declared,
			Region:     r.elsewhere(row.Region),
			Want:       row.Want,
			Attributes: row.Attributes,
			Healthy:    row.State == state.Healthy,
			Broken:     wreck || l.Phase == cloud.Broken,
			Wreck:      wreck || stacks.Begun(row),
			Missing:    !there && !stacks.Begun(row),
			Undoing:    r.undoes != nil,
			Fresh:      r.fresh[row.Token],
			After:      row.After,
			Guard:      c.Guard && there && !r.fresh[row.Token],
			AtRetire:   c.AtRetire,
			Checks:     row.Checks,
		}
		x.Again, x.Rebuild, x.Lifted = slices.Contains(r.Again, row.Name), slices.Contains(r.Rebuild, row.Name),
			slices.Contains(r.LiftGuard, row.Name)
		if slices.Contains(r.Keep, row.Name) {
			x.AtRetire = "keep"
		}
		if !known || row.State != state.Healthy {
			x.Checks = nil // it is proved again anyway, or was never
		}
		if there {
			x.Strayed = change.Strayed(row.Type, row.Want, l.Has, c.Leave)
			if stacks.Begun(row) {
				x.Attributes = l.Attributes
			}
		}
		out = append(out, x)
	}
	return out
}

// elsewhere is a region as renderings name it: empty for that of the stack.
func (r *reading) elsewhere(region string) string {
	if region == r.stack.Region {
		return ""
	}
	return region
}

// mayTakeOver are the kept resources of earlier stacks of the name, and of this one, and what
// was found with the mark of one: of several with one name the newest, or the one that somebody
// chose; the others are told. What somebody removed by hand is none, and is told.
func (r *reading) mayTakeOver(ctx context.Context) (out []change.Recorded, err error) {
	others := map[string][]string{}
	r.kept = slices.Clone(r.kept)
	slices.SortStableFunc(r.kept, func(a, b store.Kept) int { // what comes back by an undoing goes before its like
		return cmp.Compare(min(1, len(r.returns[b.Token])), min(1, len(r.returns[a.Token])))
	})
	for _, k := range r.kept {
		name := cmp.Or(r.returns[k.Token], k.Name)
		taken := func(x change.Recorded) bool { return x.Name == name }
		ours := slices.ContainsFunc(r.rows, func(row store.Resource) bool { return row.Name == name })
		if _, there := r.live.Live[name]; ours && !there && k.FoundAt != nil && !r.offline {
			// Ours is gone, and this one came after it: it is recorded in its place.
			r.replaced = append(r.replaced, name)
			r.Recorded = slices.DeleteFunc(r.Recorded, taken)
			ours = false
		}
		if ours && k.FoundAt != nil {
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Warning,
				Code:     "unrecorded",
				Place:    k.Name,
				Message: fmt.Sprintf("%s carries the mark of %s/%s too, and is recorded nowhere", k.ID(), k.Stack,
					k.Name),
				Remedy: "remove it with: undersail kept remove " + k.ID() +
					", or give it to another stack with: undersail kept move " + k.ID() + " STACK/NAME",
			})
		}
		if ours || slices.ContainsFunc(r.Recorded, taken) {
			continue
		}
		if slices.ContainsFunc(out, taken) {
			others[name] = append(others[name], k.ID())
			continue
		}
		there := cloud.Present
		if !r.offline {
			if _, there, err = r.adapter.Look(ctx, k.Resource(name).Ref()); err != nil {
				return nil, accounts.CloudSays(err)
			}
		}
		if there == cloud.Absent {
			r.Read = append(r.Read, render.Finding{
				Severity: lang.Warning,
				Code:     "kept-missing",
				Place:    k.Name,
				Message:  fmt.Sprintf("the kept %s/%s (%s) is not in the cloud any more", k.Stack, k.Name, k.ID()),
				Remedy:   "forget it with: undersail kept remove " + k.ID(),
			})
			continue
		}
		out = append(out, change.Recorded{
			Name:       name,
			Type:       k.Type,
			Declared:   k.Declared,
			Region:     r.elsewhere(k.Region),
			Want:       k.Want,
			Attributes: k.Attributes,
			Kept:       k.Stack + "/" + k.Name,
			Found:      k.FoundAt != nil,
		})
	}
	for _, name := range slices.Sorted(maps.Keys(others)) {
		r.Read = append(r.Read, render.Finding{
			Severity: lang.Note,
			Code:     "kept-others",
			Place:    name,
			Message: fmt.Sprintf("%d more are kept under the name %s: %s", len(others[name]), name,
				strings.Join(others[name], ", ")),
			Remedy: fmt.Sprintf("take another one over with: undersail kept move %s %s/%s", others[name][0],
				r.stack.Name, name),
		})
	}
	return out, nil
}

// absent names what is recorded and proved not to be there, so that the records go
// when the run begins.
func (r *reading) absent() []string {
	var names []string
	for _, row := range r.rows {
		if _, there := r.live.Live[row.Name]; !there && (stacks.Begun(row) || slices.Contains(r.replaced, row.Name)) {
			names = append(names, row.Name)
		}
	}
	return names
}

// takenOver are the kept resources that a proposal takes over: what they are recorded as from
// then on, by their tokens.
func (r *reading) takenOver(changes []change.Change, rendering *render.Rendering) map[string]store.Resource {
	out := map[string]store.Resource{}
	for _, c := range changes {
		if c.TakesOver == "" {
			continue
		}
		for _, k := range r.kept {
			if k.Stack+"/"+k.Name != c.TakesOver {
				continue
			}
			row := k.Resource(c.Resource)
			if res := rendering.Resource(c.Resource); k.FoundAt != nil && res != nil {
				row.Want = change.FoundAs(res.Want, k.Want)
			}
			out[k.Token] = row
			break
		}
	}
	return out
}

// undone is a run that an undoing undoes, with what it did.
type undone struct {
	run     store.Run
	steps   []store.Step
	changes []change.Change
}
