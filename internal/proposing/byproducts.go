package proposing

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/proposal"
	"undersail/internal/store"
)

// madeByThoseThatGo lists what the resources that go have made by themselves and goes with them,
// and what has their tags and stays. What holds data among it asks for a consent.
func (s *Proposing) madeByThoseThatGo(ctx context.Context, r *reading, c proposal.Changed) (proposal.Changed, error) {
	for _, ch := range c.Plan.Changes {
		if ch.Change != change.Remove && (ch.Change != change.Rebuild || ch.Keeps) {
			continue
		}
		at := slices.IndexFunc(r.rows, func(row store.Resource) bool { return row.Name == cmp.Or(ch.Was, ch.Resource) })
		if at < 0 {
			continue
		}
		row := r.rows[at]
		for _, m := range engine.Makes(row) {
			found, err := engine.Made(ctx, r.adapter, row.Region, m)
			if err != nil {
				return c, accounts.CloudSays(err)
			}
			for _, l := range found {
				if l.Phase == cloud.Removing {
					continue
				}
				words, tags := fmt.Sprintf("the %s %s (%s)", resource.Words(l.Type), l.Name, l.ID), fmt.Sprint(m.Tags)
				f := render.Finding{
					Severity: lang.Note,
					Code:     "made-by-it",
					Place:    row.Name,
					Message: fmt.Sprintf("%s goes with it: it has the tags %s", words,
						strings.TrimPrefix(tags, "map")),
				}
				if why := engine.NotMade(row, l); why != "" {
					f = render.Finding{
						Severity: lang.Warning,
						Code:     "made-by-another",
						Place:    row.Name,
						Message: fmt.Sprintf("%s has the tags %s, and stays: %s", words,
							strings.TrimPrefix(tags, "map"), why),
						Remedy: "remove it by hand if nobody needs it",
					}
				} else if t, _ := resource.ByName(l.Type); t.HoldsData {
					c.Lost = append(slices.Clone(c.Lost), words+", which "+row.Name+" made")
				}
				c.Read = append(slices.Clone(c.Read), f)
			}
		}
	}
	return c, nil
}

// heldByFound finds disks of the stack that something holds which was found and is not taken
// over, where the proposal makes or alters what is to have them: only one can.
func (r *reading) heldByFound(c proposal.Changed) proposal.Changed {
	wanted := map[string]string{} // who is to have a disk, by its id
	for _, ch := range c.Plan.Changes {
		if ch.Change != change.Create && ch.Change != change.Alter && ch.Change != change.Rebuild ||
			c.Plan.Rendering == nil {
			continue
		}
		if res := c.Plan.Rendering.Resource(ch.Resource); res != nil && ch.TakesOver == "" {
			for _, id := range (cloud.Live{Ref: cloud.Ref{Type: res.Type}, Has: res.Want}).Uses() {
				wanted[id] = res.Name
			}
		}
	}
	for _, k := range r.kept {
		taken := slices.ContainsFunc(c.Plan.Changes,
			func(ch change.Change) bool { return ch.TakesOver == k.Stack+"/"+k.Name })
		if k.FoundAt == nil || taken {
			continue
		}
		for _, id := range (cloud.Live{Ref: cloud.Ref{Type: k.Type}, Has: k.Want}).Uses() {
			if name, disk := wanted[id], r.diskOf(id); disk != "" && name != "" {
				c.Read = append(slices.Clone(c.Read), render.Finding{
					Severity: lang.Error,
					Code:     "in-use",
					Place:    name,
					Message: fmt.Sprintf("%s is held by %s %s, which carries the mark of the stack and is "+
						"recorded nowhere", disk, resource.Words(k.Type), k.ID()),
					Remedy: "remove that first: undersail kept remove " + k.ID(),
				})
			}
		}
	}
	return c
}

// diskOf names the disk of an id: one that the stack has, or one that it may take over.
func (r *reading) diskOf(id string) string {
	for _, row := range r.rows {
		if row.Type == resource.TypeDisk && row.Attributes["id"] == id {
			return row.Name
		}
	}
	for _, k := range r.kept {
		if k.Type == resource.TypeDisk && k.ID() == id {
			return k.Name
		}
	}
	return ""
}

// makes reports whether something was made by a resource of the stack that goes, as its
// template says.
func (r *reading) makes(l cloud.Live, going map[string]string) bool {
	for _, row := range r.rows {
		id, _ := row.Attributes["id"].(string)
		if going[id] == "" {
			continue
		}
		for _, m := range engine.Makes(row) {
			if l.Type == m.Type && tagged(l.Tags, m.Tags) && engine.NotMade(row, l) == "" {
				return true
			}
		}
	}
	return false
}

func tagged(has map[string]string, want map[string]any) bool {
	for name, v := range want {
		if has[name] != fmt.Sprint(v) {
			return false
		}
	}
	return len(want) > 0
}

// usedElsewhere finds what stands in the way of removals and does not belong to the
// stack: somebody else's things that use what is to go.
func (s *Proposing) usedElsewhere(ctx context.Context, r *reading, c proposal.Changed) (proposal.Changed, error) {
	c, err := s.madeByThoseThatGo(ctx, r, c)
	if err != nil {
		return c, err
	}
	going := map[string]map[string]string{} // names by id, by region
	byName := map[string]change.Recorded{}
	for _, x := range r.Recorded {
		if x.Kept == "" {
			byName[x.Name] = x
		}
	}
	for _, ch := range c.Plan.Changes {
		was, there := byName[cmp.Or(ch.Was, ch.Resource)]
		if !there || was.ID() == "" || was.Missing ||
			ch.Change != change.Remove && (ch.Change != change.Rebuild || ch.Keeps) {
			continue
		}
		region := cmp.Or(was.Region, r.stack.Region)
		if going[region] == nil {
			going[region] = map[string]string{}
		}
		going[region][was.ID()] = was.Name
	}
	own := map[string]bool{}
	for _, row := range r.rows {
		own[row.Token] = true
	}
	for _, region := range slices.Sorted(maps.Keys(going)) {
		users, err := cloud.Collect(r.adapter.Search(ctx, cloud.Query{
			Region: region,
			Uses:   slices.Sorted(maps.Keys(going[region])),
		}))
		if err != nil {
			return c, accounts.CloudSays(err)
		}
		for _, l := range users {
			// what goes takes what it made with it
			if own[l.Token] || l.Phase == cloud.Removing || going[region][l.Maker] != "" || r.makes(l, going[region]) {
				continue
			}
			for _, id := range l.Uses() {
				if name := going[region][id]; name != "" {
					c.Read = append(slices.Clone(c.Read), render.Finding{
						Severity: lang.Error,
						Code:     "in-use",
						Place:    name,
						Message:  fmt.Sprintf("%s is used by %s", name, whose(l)),
						Remedy:   "remove that first, or let it use something else",
					})
				}
			}
		}
	}
	return c, nil
}

// whose names a resource that is not of the stack.
func whose(l cloud.Live) string {
	if stack := l.Tags[cloud.TagStack]; stack != "" {
		return fmt.Sprintf("%s of stack %s (%s %s)", l.Tags[cloud.TagResource], stack, l.Type, l.ID)
	}
	return fmt.Sprintf("the %s %s (%s), which no stack made", l.Type, l.Name, l.ID)
}
