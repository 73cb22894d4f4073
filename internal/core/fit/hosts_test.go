package fit

import (
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

// TestMachinesAreHeldAgainstTheirHosts finds before the first call that a dedicated host
// does not carry what is to stand on it, and that a machine cannot fetch what it installs.
func TestMachinesAreHeldAgainstTheirHosts(t *testing.T) {
	t.Parallel()
	o := offers("north-fell", "a", "b")
	o.Types = append(o.Types, "host", "pool")
	o.Sizes = append(o.Sizes, offer.Size{
		Name:         "vast-64",
		VCPUs:        64,
		MemoryBytes:  1 << 40,
		Architecture: "x86_64",
		Host:         true,
		Zones:        []string{"a"},
	})
	o.Hosts = []offer.Host{
		{Family: "vast", VCPUs: 128, MemoryBytes: 2 << 40, Hour: 8, Zones: []string{"a"}},
		{Family: "plain", VCPUs: 4, MemoryBytes: 16 << 30, Hour: 1, Zones: []string{"a", "b"}},
	}
	o.OwnHosts = []offer.OwnHost{{ID: "hst-1", Name: "season", Family: "vast", Zone: "a", VCPUs: 128, Used: 96}}
	machine := func(name, more string) string {
		return name + ": {type: instance, want: {image: debian-12, subnet: =lan.id, " + more + "}}"
	}
	const ground = "ground: {type: host, want: {family: plain}}"
	for _, c := range []struct {
		want  string
		lines []string
	}{
		{"", []string{net, lan, ground, machine("a", "size: plain-2, host: =ground.id"),
			machine("b", "size: plain-2, host: =ground.id")}},
		{"host-room c.host", []string{net, lan, ground, machine("a", "size: plain-2, host: =ground.id"),
			machine("b", "size: plain-2, host: =ground.id"), machine("c", "size: plain-2, host: =ground.id")}},
		{"host-room a.host", []string{net, lan, "ground: {type: host, want: {family: vast}}",
			machine("a", "size: plain-2, host: =ground.id")}},
		{"zones a.host", []string{net, lan, "ground: {type: host, want: {family: plain, zone: b}}",
			machine("a", "size: plain-2, host: =ground.id")}},
		{"not-offered ground.family", []string{"ground: {type: host, want: {family: broad}}"}},
		{"not-offered ground.family", []string{"ground: {type: host, want: {family: vast, zone: b}}"}},
		{"not-offered a.size", []string{net, lan, machine("a", "size: vast-64")}},
		{"", []string{net, lan, "ground: {type: host, want: {family: vast}}",
			machine("a", "size: vast-64, host: =ground.id")}},
		{"host-room a.host", []string{net, lan, machine("a", "size: vast-64, host: hst-1")}},
		{"not-there a.host", []string{net, lan, machine("a", "size: vast-64, host: hst-2")}},
		{"no-way-out a.user_data",
			[]string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, way_out: none}}",
				machine("a", "size: plain-2, user_data: {packages: [nginx]}")}},
		{"no-way-out a.user_data",
			[]string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, way_out: address}}",
				machine("a", "size: plain-2, user_data: {packages: [nginx]}")}},
		{"", []string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, way_out: address}}",
			machine("a", "size: plain-2, public: true, user_data: {packages: [nginx]}")}},
		{"", []string{net, "lan: {type: subnet, want: {network: =net.id, range: 10.0.1.0/24, way_out: none}}",
			machine("a", "size: plain-2")}},
	} {
		template, found := lang.Read("t",
			[]byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\nresources:\n  "+
				strings.Join(c.lines, "\n  ")+"\n"))
		if template == nil {
			t.Fatal(found)
		}
		r := render.Render(budget.Boundless(), render.Request{
			Template: template,
			Rehearse: true,
			Stack:    render.Stack{Name: "s", Region: "north-fell"},
			Offers:   o,
		})
		var got []string
		for _, f := range Rendering(r, offer.At(*o)) {
			if f.Severity == lang.Error {
				got = append(got, f.Code+" "+f.Place)
			}
		}
		if text := strings.Join(got, ", "); text != c.want {
			t.Errorf("%v: %q, want %q", c.lines, text, c.want)
		}
	}
}
