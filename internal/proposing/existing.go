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
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// lookUp finds the resources that the template uses and does not make, and reports
// whether there are any.
func (s *Proposing) lookUp(ctx context.Context, r *reading, first *render.Rendering) (bool, error) {
	found := map[string]map[string]any{}
	any := false
	for _, res := range first.Resources {
		if res.Find == nil {
			continue
		}
		any = true
		query := findQuery(res, r.stack.Region)
		if r.offline {
			if attributes := r.known(query); attributes != nil {
				found[res.Name] = attributes
			}
			continue // else it shows what it waits for
		}
		list, err := cloud.Collect(r.adapter.Search(ctx, query))
		if err != nil {
			return any, accounts.CloudSays(err)
		}
		list = slices.DeleteFunc(list, func(l cloud.Live) bool { return l.Phase != cloud.Ready })
		var message, remedy string
		switch len(list) {
		case 1:
			attributes := maps.Clone(list[0].Attributes)
			attributes["id"] = list[0].ID
			found[res.Name] = attributes
			continue
		case 0:
			message, remedy = fmt.Sprintf("region %s has no %s with %s", query.Region, res.Type, query),
				"name one that exists, or leave it out to make a new one"
		default:
			var ids []string
			for _, l := range list {
				ids = append(ids, l.ID)
			}
			slices.Sort(ids)
			message, remedy = fmt.Sprintf("%d of type %s in %s have %s: %s", len(list), res.Type, query.Region, query,
				strings.Join(ids, ", ")), "give the id of one of them"
		}
		r.Read = append(r.Read, render.Finding{
			Severity: lang.Error,
			Code:     "not-found",
			Place:    res.Name + ".find",
			Message:  message,
			Remedy:   remedy,
		})
	}
	r.Found = found
	return any, nil
}

// known is what the offers tell of the one resource that a query means, or nil.
func (r *reading) known(q cloud.Query) map[string]any {
	o := r.Offers.In(q.Region)
	if o == nil || q.Tags != nil {
		return nil
	}
	var all []map[string]any
	meant := func(id, name string) bool { return (q.ID == "" || q.ID == id) && (q.Name == "" || q.Name == name) }
	switch q.Type {
	case resource.TypeNetwork:
		for _, n := range o.Networks {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	case resource.TypeSubnet:
		for _, n := range o.Subnets {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	case resource.TypeKeyPair:
		for _, n := range o.KeyPairs {
			if meant(n.ID, n.Name) {
				all = append(all, map[string]any{"id": n.ID})
			}
		}
	}
	if len(all) != 1 {
		return nil
	}
	return all[0]
}

// findQuery asks for the resource that a template means.
func findQuery(res render.Resource, region string) cloud.Query {
	query := cloud.Query{Region: cmp.Or(res.Region, region), Type: res.Type}
	query.ID, _ = res.Find["id"].(string)
	query.Name, _ = res.Find["name"].(string)
	if tags, ok := res.Find["tags"].(map[string]any); ok {
		query.Tags = map[string]string{}
		for k, v := range tags {
			query.Tags[k] = fmt.Sprint(v)
		}
	}
	return query
}
