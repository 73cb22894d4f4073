package policy

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// unprotected notes data that is not encrypted, or that nothing keeps.
func unprotected(l *look) {
	l.each(func(r *render.Resource) {
		t, _ := resource.ByName(r.Type)
		if _, can := t.Property("encrypted"); !can || !t.HoldsData {
			return
		}
		if r.Want["encrypted"] == nil {
			if o := l.Offers.In(r.Region); o == nil || !slices.Contains(o.Without[r.Type], "encrypted") {
				l.find(lang.Note, "not-encrypted", r.Name,
					"add `encrypted: true`; it cannot be added later without a rebuild",
					"the %s is not encrypted at rest", r.Type)
			}
		}
	})
}

// zonesUsed warns when several zones are asked for and everything stands in one.
func zonesUsed(l *look) {
	for _, in := range l.Inputs {
		zones, _ := in.Value.([]any)
		if len(zones) < 2 {
			continue
		}
		used := map[string]bool{}
		machines := 0
		for i := range l.Resources {
			r := &l.Resources[i]
			if z, ok := r.Want["zone"].(string); ok {
				used[z] = true
			}
			if r.Type == resource.TypeInstance || r.Type == resource.TypeHost {
				machines++
			}
		}
		var idle []string
		for _, z := range zones {
			name, _ := z.(string)
			if o := l.Offers.Home; o == nil || !slices.Contains(o.Zones, name) {
				return // these are no zones, or it is not known
			}
			if !used[name] {
				idle = append(idle, name)
			}
		}
		if len(idle) > 0 && machines > 1 {
			l.find(lang.Warning, "zones-unused", "inputs."+in.Name, "spread over them, or choose fewer zones",
				"%d zones are chosen, and nothing stands in %s", len(zones), list(idle))
		}
	}
}

// hostsOverZones warns of hosts that cannot be spread evenly over two zones.
func hostsOverZones(l *look) {
	l.each(func(r *render.Resource) {
		layout, _ := r.Want["layout"].([]any)
		byZone, total := map[string]int64{}, int64(0)
		for _, item := range layout {
			m, _ := item.(map[string]any)
			if witness, _ := m["witness"].(bool); witness {
				continue
			}
			n, _ := m["hosts"].(int64)
			byZone[fmt.Sprint(m["zone"])] += n
			total += n
		}
		if len(byZone) != 2 {
			return
		}
		zones := slices.Sorted(maps.Keys(byZone))
		switch a, b := byZone[zones[0]], byZone[zones[1]]; {
		case total%2 == 1:
			l.find(lang.Error, "odd-hosts", r.Name+".layout", fmt.Sprintf("choose %d or %d", total-1, total+1),
				"%d hosts over two zones are an odd number: one zone could not carry what the other did", total)
		case a != b:
			l.find(lang.Warning, "uneven-hosts", r.Name+".layout", fmt.Sprintf("put %d into each", total/2),
				"%s has %d hosts and %s has %d: the smaller cannot carry what the larger does", zones[0], a, zones[1],
				b)
		}
	}, "private_cloud")
}

// nearEnd is how long before its end an image is told.
const nearEnd = 180

// images warns of images whose support ends soon, or has ended.
func images(l *look) {
	if l.Today == "" {
		return
	}
	soon := addDays(l.Today, nearEnd)
	l.each(func(r *render.Resource) {
		name, _ := r.Want["image"].(string)
		o := l.Offers.In(r.Region)
		if o == nil {
			return
		}
		image, sold := o.Image(name)
		if !sold || image.Ends == "" || image.Ends > soon {
			return
		}
		remedy, word := "plan for another image", "ends on "+image.Ends
		if newest, err := o.NewestImage(image.System, "", image.Architecture); err == nil && newest != name {
			remedy = "choose " + newest
		}
		if image.Ends < l.Today {
			word = "ended on " + image.Ends
		}
		f := render.Finding{
			Severity: lang.Warning,
			Code:     "image-ends",
			Place:    r.Name + ".image",
			Message:  fmt.Sprintf("support of image %s %s", name, word),
			Remedy:   remedy,
		}
		if newest, ok := strings.CutPrefix(remedy, "choose "); ok {
			f.Take = newest
		}
		l.Opinion.Findings = append(l.Opinion.Findings, f)
	})
}

// addDays counts days from a date; what is no date stays as it is.
func addDays(date string, days int) string {
	t, err := time.Parse(time.DateOnly, date)
	if err != nil {
		return date
	}
	return t.AddDate(0, 0, days).Format(time.DateOnly)
}

// withdrawn notes sizes that stay as they are and are no longer sold: what needs them
// again would fail.
func withdrawn(l *look) {
	l.each(func(r *render.Resource) {
		name, _ := r.Want["size"].(string)
		if o := l.Offers.In(r.Region); o != nil && r.Type != resource.TypeDisk {
			if s, there := o.Size(name); there && s.Withdrawn {
				l.find(lang.Warning, "withdrawn", r.Name+".size", "move to another size before it has to be made again",
					"size %s is no longer sold", name)
			}
		}
	}, "instance", "pool")
}

// tagged notes resources without a tag that most others of the template have.
func tagged(l *look) {
	have, total := map[string]int{}, 0
	l.each(func(r *render.Resource) {
		total++
		tags, _ := r.Want["tags"].(map[string]any)
		for name := range tags {
			have[name]++
		}
	})
	for _, name := range slices.Sorted(maps.Keys(have)) {
		if have[name] == total || have[name]*2 < total {
			continue
		}
		var without []string
		l.each(func(r *render.Resource) {
			if tags, _ := r.Want["tags"].(map[string]any); tags[name] == nil {
				without = append(without, r.Name)
			}
		})
		l.find(lang.Note, "untagged", without[0], fmt.Sprintf("add `tags: {%s: ...}`", name),
			"%s of %d resources have no tag %s, which the others have", list(without), total, name)
	}
}

// terms asks for a consent to the terms of images that the account has not accepted.
func terms(l *look) {
	told := map[string]bool{}
	l.each(func(r *render.Resource) {
		name, _ := r.Want["image"].(string)
		o := l.Offers.In(r.Region)
		if o == nil {
			return
		}
		image, sold := o.Image(name)
		if sold && image.Terms != nil && !image.Terms.Accepted && !told[image.Terms.Name] {
			told[image.Terms.Name] = true
			l.find(lang.Warning, "terms", r.Name+".image",
				"read them, and agree to `terms` when the proposal is accepted, or choose another image",
				"the account has not accepted the terms %s of image %s", image.Terms.Name, name)
			l.ask(ConsentTerms, fmt.Sprintf("%s, for image %s: %s", image.Terms.Name, name, image.Terms.Text))
		}
	})
}

// features asks for a consent to using what not every region has.
func features(l *look) {
	users := map[string][]string{}
	for i := range l.Resources {
		for _, f := range l.Resources[i].Features {
			users[f] = append(users[f], l.Resources[i].Name)
		}
	}
	for _, f := range slices.Sorted(maps.Keys(users)) {
		about := f
		if o := l.Offers.Home; o != nil && o.Features[f] != "" {
			about += " (" + o.Features[f] + ")"
		}
		l.ask(ConsentFeatures, fmt.Sprintf("%s is turned on for %s", about, list(users[f])))
	}
}
