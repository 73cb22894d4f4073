package service

import (
	"fmt"
	"slices"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
)

// unreachedTasks finds tasks that cannot be run, since no packets from here reach the
// machines of the account.
func (r *reading) unreachedTasks(c proposal.Changed) proposal.Changed {
	if !r.account.Unreached {
		return c
	}
	for _, ch := range c.Plan.Changes {
		t, _ := resource.ByName(ch.Type)
		if t.Own && (ch.Change == change.Create || ch.Change == change.Alter || ch.Change == change.Rebuild) {
			c.Read = append(slices.Clone(c.Read), render.Finding{Severity: lang.Error, Code: "not-reached", Place: ch.Resource,
				Message: fmt.Sprintf("no packets from here reach the machines of account %s, so nothing can be run on them", r.account.Name),
				Remedy:  "do without it, or let packets through and say so with: undersail accounts set " + r.account.Name + " --unreached=false"})
		}
	}
	return c
}
