package openstack

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"undersail/internal/cloud"
)

func init() {
	conducts["firewall"] = conduct{
		main:   "group",
		see:    seeFirewall,
		create: makeFirewall,
		alter:  alterFirewall,
		remove: removes("group"),
		parts:  single("group"),
	}
}

// A firewall is a security group whose inbound rules are kept equal to what is wanted.

// wantedRule is a neutral rule in the cloud's words.
type wantedRule struct {
	source, protocol, note string
	port                   int64
}

func rulesOf(v any) []wantedRule {
	list, _ := v.([]any)
	out := make([]wantedRule, 0, len(list))
	for _, item := range list {
		r, _ := item.(map[string]any)
		w := wantedRule{source: fmt.Sprint(r["from"]), protocol: "tcp", note: cloud.RuleNote(r["about"], r["until"])}
		if p, ok := r["protocol"].(string); ok && p != "" {
			w.protocol = p
		}
		switch n := r["port"].(type) {
		case int64:
			w.port = n
		case float64:
			w.port = int64(n)
		}
		out = append(out, w)
	}
	return out
}

// inbound tells whether a rule is one that we keep: an inbound one of one port.
func (r rule) inbound() (wantedRule, bool) {
	if r.Direction != "ingress" {
		return wantedRule{}, false
	}
	w := wantedRule{source: r.Source, protocol: r.Protocol, note: r.Description}
	if r.From != nil {
		w.port = *r.From
	}
	return w, r.From != nil && r.To != nil && *r.From == *r.To && r.Group == "" && r.Source != ""
}

func seeFirewall(_ context.Context, w *work) (cloud.Live, error) {
	g := w.part("group")
	l := cloud.Live{
		Phase:      cloud.Ready,
		Attributes: map[string]any{},
		Has:        map[string]any{"rules": neutralRules(g.Rules)},
	}
	if n := g.described()[tagWithin]; n != "" {
		l.Has["network"] = n
	}
	return l, nil
}

// neutralRules turns rules back. One that no template can have, such as one for all ports,
// is told as near as it goes, so that it is seen to have strayed.
func neutralRules(rules []rule) []any {
	out := []any{}
	for _, r := range rules {
		if r.Direction != "ingress" {
			continue
		}
		w, ours := r.inbound()
		one := map[string]any{"from": w.source, "port": w.port}
		if !ours {
			one["from"] = cmp.Or(w.source, "0.0.0.0/0")
			one["about"] = fmt.Sprintf("rule %s of the cloud: %s", r.ID, cmp.Or(w.protocol, "every protocol"))
			out = append(out, one)
			continue
		}
		if w.protocol != "tcp" {
			one["protocol"] = w.protocol
		}
		cloud.ReadRuleNote(w.note, one)
		out = append(out, one)
	}
	return out
}

func makeFirewall(ctx context.Context, w *work) (cloud.Progress, error) {
	if w.part("group") == nil {
		return w.make(ctx, "group", w.ref.Token, w.marked(nil))
	}
	kept := map[string]string{tagWithin: fmt.Sprint(w.task.Want["network"])}
	if p, did, err := w.tagged(ctx, "group", kept); did || err != nil {
		return p, err
	}
	return w.ruled(ctx, rulesOf(w.task.Want["rules"]))
}

// ruled makes or removes one rule, until the group has what is wanted. A rule that is
// wanted is made before one that is not goes, so that nothing that stays is cut off.
func (w *work) ruled(ctx context.Context, wanted []wantedRule) (cloud.Progress, error) {
	g := w.part("group")
	var extra []rule
	missing := slices.Clone(wanted)
	for _, r := range g.Rules {
		if r.Direction != "ingress" {
			continue
		}
		is, _ := r.inbound()
		if i := slices.Index(missing, is); i >= 0 {
			missing = slices.Delete(missing, i, i+1)
		} else {
			extra = append(extra, r)
		}
	}
	if len(missing) > 0 {
		m := missing[0]
		// The same rule with another note is in its way.
		i := slices.IndexFunc(extra, func(r rule) bool { is, _ := r.inbound(); is.note = m.note; return is == m })
		if i >= 0 {
			return w.unrule(ctx, extra[i])
		}
		family := "IPv4"
		if strings.Contains(m.source, ":") {
			family = "IPv6"
		}
		err := w.a.do(ctx, w.ref.Region, call{
			service: network,
			method:  http.MethodPost,
			path:    "security-group-rules",
			in: map[string]any{
				"security_group_rule": map[string]any{
					"security_group_id": g.ID,
					"direction":         "ingress",
					"ethertype":         family,
					"protocol":          m.protocol,
					"port_range_min":    m.port,
					"port_range_max":    m.port,
					"remote_ip_prefix":  m.source,
					"description":       m.note,
				},
			},
		})
		if err != nil {
			return cloud.Progress{}, fmt.Errorf("make the rule for port %s: %w", strconv.FormatInt(m.port, 10), err)
		}
		return w.reread(ctx, w.part("group"))
	}
	if len(extra) > 0 {
		return w.unrule(ctx, extra[0])
	}
	return w.done(ctx)
}

func (w *work) unrule(ctx context.Context, r rule) (cloud.Progress, error) {
	err := w.a.do(ctx, w.ref.Region, call{
		service: network,
		method:  http.MethodDelete,
		path:    "security-group-rules/" + r.ID,
	})
	if err != nil && cloud.ClassOf(err) != cloud.Gone {
		return cloud.Progress{}, fmt.Errorf("remove a rule: %w", err)
	}
	return w.reread(ctx, w.part("group"))
}

func alterFirewall(ctx context.Context, w *work) (cloud.Progress, error) {
	if p, did, err := w.described(ctx, "group"); did || err != nil {
		return p, err
	}
	rules, asked := w.task.Want["rules"]
	if !asked && !slices.Contains(w.task.Unset, "rules") {
		return w.done(ctx)
	}
	return w.ruled(ctx, rulesOf(rules))
}
