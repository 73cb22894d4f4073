package modeltest

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/resource"
	"undersail/internal/core/state"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// check holds cloud, records, model and a second proposal against each other.
func (q *Sequence) check() []string {
	ctx := context.Background()
	alive, gone := q.mine()
	kept, err := q.service.Proposing.Kept(ctx)
	if err != nil {
		return []string{err.Error()}
	}
	keptIDs := map[string]bool{}
	for _, k := range kept {
		keptIDs[k.ID] = true
	}
	var out []string
	differ := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	byName := map[string]world.LedgerResource{}
	for _, x := range alive {
		name := x.Tags["undersail-resource"]
		if keptIDs[x.ID] {
			if x.Kind != "disks" {
				differ("%s is kept and is one of the %s", name, x.Kind)
			}
			continue
		}
		if _, twice := byName[name]; twice {
			differ("two of %s are alive", name)
		}
		byName[name] = x
	}
	for _, x := range gone {
		name := x.Tags["undersail-resource"]
		if x.Kind == "disks" && !q.by[x.ID] && !q.agreed[name] && !q.wrecks[x.ID] {
			differ("the disk %s (%s) is gone, and nobody agreed to lose what it held", name, x.ID)
		}
	}
	for _, d := range q.now.list {
		for i, name := range d.members() {
			x, there := byName[name]
			delete(byName, name)
			if !there {
				differ("%s is wanted and not there", name)
				continue
			}
			for _, wrong := range q.compare(d, i, x) {
				differ("%s: %s", name, wrong)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(byName)) {
		differ("%s is there and not wanted", name)
	}
	if out != nil {
		return out
	}
	st, err := q.service.Stacks.Show(ctx, q.name)
	if err != nil {
		return []string{err.Error()}
	}
	v, err := q.service.Stacks.Verify(ctx, q.rig.Admin, q.name)
	if err != nil {
		if len(q.now.list) == 0 {
			return nil
		}
		return []string{err.Error()}
	}
	wanted := 0
	for _, d := range q.now.list {
		wanted += len(d.members())
	}
	if len(st.Resources) != wanted || st.Healthy != wanted {
		differ("wanted are %d, recorded %d, healthy %d", wanted, len(st.Resources), st.Healthy)
	}
	for _, x := range v.Resources {
		if x.State != state.Healthy {
			differ("%s is %s: %s", x.Name, x.State, x.Reason)
		}
	}
	p, err := q.service.Proposing.Propose(ctx, q.rig.Admin, proposing.NewProposal{
		Stack:  q.name,
		File:   "model.sail.yaml",
		Source: q.applied,
	})
	switch {
	case err != nil:
		differ("proposing again: %s", servicetest.Explain(err))
	case p.State != "nothing":
		differ("proposing again would be %s: %v", p.Summary, changing(p))
	}
	return out
}

func changing(p proposing.Proposal) []string {
	var out []string
	for _, c := range p.Changes {
		if c.Change != "same" {
			out = append(out, fmt.Sprintf("%s %s %s %v", c.Change, c.Resource, c.Reason, c.Fields))
		}
	}
	return out
}

// compare tells where a resource in the cloud is not what the model wants, by a
// reading of Larch's properties of the model's own.
func (q *Sequence) compare(d *declaration, member int, x world.LedgerResource) []string {
	var out []string
	want := func(property string, v any) {
		if got := fmt.Sprint(x.Properties[property]); got != fmt.Sprint(v) {
			out = append(out, fmt.Sprintf("%s is %s, wanted %v", property, got, v))
		}
	}
	tags := map[string]any{}
	if wanted, ok := d.want["tags"].(map[string]any); ok {
		maps.Copy(tags, wanted)
	}
	if d.asks {
		tags["word"] = q.now.word
	}
	for k, v := range x.Tags {
		if !strings.HasPrefix(k, "undersail-") && tags[k] != v {
			out = append(out, fmt.Sprintf("the tag %s is %s", k, v))
		}
	}
	for k, v := range tags {
		if x.Tags[k] != v {
			out = append(out, fmt.Sprintf("the tag %s is missing, and should be %v", k, v))
		}
	}
	switch d.typ {
	case "network":
		want("cidr", q.now.block(d))
	case "subnet":
		want("cidr", q.now.slot(d, member))
	case "disk":
		bytes, _ := resource.ParseData(d.want["size"].(string))
		want("gib", bytes>>30)
		want("class", d.want["type"])
		if encrypted, _ := x.Properties["encrypted"].(bool); encrypted != (d.want["encrypted"] == true) {
			out = append(out, "encrypted is otherwise than wanted")
		}
	case "firewall":
		rules, _ := x.Properties["inbound"].([]any)
		var got, wanted []string
		for _, r := range rules {
			m, _ := r.(map[string]any)
			got = append(got, fmt.Sprint(m["source"], m["port"], m["note"]))
		}
		for _, r := range d.want["rules"].([]any) {
			m := r.(map[string]any)
			wanted = append(wanted, fmt.Sprint(m["from"], m["port"], m["about"]))
		}
		slices.Sort(got)
		slices.Sort(wanted)
		if !slices.Equal(got, wanted) {
			out = append(out, fmt.Sprintf("the rules are %v, wanted %v", got, wanted))
		}
	case "instance":
		want("size", d.want["size"])
		firewalls, _ := x.Properties["firewall_ids"].([]any)
		wanted, _ := d.want["firewalls"].([]any)
		if len(firewalls) != len(wanted) {
			out = append(out, fmt.Sprintf("it has %d firewalls, wanted %d", len(firewalls), len(wanted)))
		}
		attached, _ := x.Properties["disks"].([]any)
		wantedDisks, _ := d.want["disks"].([]any)
		if len(attached) != len(wantedDisks) {
			out = append(out, fmt.Sprintf("it has %d disks, wanted %d", len(attached), len(wantedDisks)))
		}
	}
	return out
}
