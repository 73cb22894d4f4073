package proposing

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"undersail/internal/accounts"
	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposal"
)

// takenNames finds names that somebody else has, whom nobody here sees: those of new
// resources that only one customer of a cloud can have. Only the cloud knows.
func (s *Proposing) takenNames(ctx context.Context, r *reading, c proposal.Changed) (proposal.Changed, error) {
	registrar, can := r.adapter.(cloud.Registrar)
	if !can {
		return c, nil
	}
	for _, ch := range c.Plan.Changes {
		wanted := c.Plan.Rendering.Resource(ch.Resource)
		if wanted == nil || ch.Change != change.Create && ch.Change != change.Rebuild || ch.TakesOver != "" {
			continue
		}
		t, _ := resource.ByName(wanted.Type)
		for _, p := range t.Properties {
			name, known := wanted.Want[p.Name].(string)
			if !p.Everybodys || !known || r.hasName(wanted.Type, p.Name, name) {
				continue
			}
			why, err := registrar.Taken(ctx, cmp.Or(wanted.Region, r.stack.Region), wanted.Type, name)
			if err != nil {
				return c, accounts.CloudSays(err)
			}
			if why != "" {
				c.Read = append(slices.Clone(c.Read), render.Finding{
					Severity: lang.Error,
					Code:     "name-taken",
					Place:    wanted.Name + "." + p.Name,
					Message: fmt.Sprintf("no two customers of the cloud can have the same `%s`, and %q is taken: %s",
						p.Name, name, why),
					Remedy: "choose another; one made with short_hash(stack.id, 6) is nobody else's",
				})
			}
		}
	}
	return c, nil
}

// hasName reports whether a resource of the stack itself has a name.
func (r *reading) hasName(typeName, property, name string) bool {
	return slices.ContainsFunc(r.Recorded,
		func(x change.Recorded) bool { return x.Type == typeName && x.Want[property] == any(name) && !x.Missing })
}
