package render

import (
	"encoding/json"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
)

// FuzzInputs gives arbitrary inputs files to a template with every kind of
// input: nothing may break it, and the same file gives the same bytes.
func FuzzInputs(f *testing.F) {
	t := template(f, `inputs:
  text: {type: string, pattern: '^[a-z]*$', default: a}
  count: {type: integer, minimum: 0, maximum: 50, default: 1}
  share: {type: number, default: 0.5}
  flag: {type: boolean, default: false}
  range: {type: string, format: cidr, default: 10.0.0.0/16}
  disk: {type: string, format: amount, default: 10GiB}
  keep: {type: string, format: span, default: 1d}
  zones: {picks: zones, default: [a]}
  size: {picks: size, default: small}
  list: {type: array, items: {type: object, properties: {port: {type: integer}, from: {type: string, format: cidr}}}, default: []}
  map: {type: object, additionalProperties: {type: string}, default: {}}
  maybe: {type: string, optional: true}
  word: {secret: true, optional: true, rules: {length: 8}}
calc: {parts: '=carve(inputs.range, inputs.zones.map(z, z + "/26"))'}
resources:
  net: {type: network, want: {range: =inputs.range, tags: =inputs.map}}
  lan: {type: subnet, repeat: {zone: =inputs.zones}, want: {network: =net.id, range: '=calc.parts[zone]', zone: =zone}}
  data: {type: disk, repeat: =inputs.count, want: {size: =inputs.disk * inputs.share, type: solid}}
  rules: {type: firewall, when: =inputs.flag, want: {network: =net.id, rules: '=inputs.list.map(x, firewall_rule{from: x.from, port: x.port})'}}
  host: {type: instance, want: {size: =inputs.size, image: i, subnet: '=lan[inputs.zones[0]].id', user_data: {runcmd: ['=inputs.text + inputs.maybe.orValue("") + string(inputs.keep)']}}}
  kept: {type: secret, when: =has_value(inputs.word), want: {value: '=inputs.word.orValue("x")'}}
`)
	for _, seed := range []string{"count: 3\nzones: [a, b]\n", "list: [{port: 22, from: 10.0.0.0/8}]\nflag: true\n",
		"disk: 1.5TiB\nshare: 2\n", "map: {a: b}\nword: secret-word\n", `{"count": 1e3}`, "range: fd00::/8\n",
		"zones: []\n"} {
		f.Add([]byte(seed))
	}
	offers := &offer.Offers{
		Region:    "r",
		Zones:     []string{"a", "b"},
		Types:     []string{"network", "subnet", "disk", "firewall", "instance", "secret"},
		Sizes:     []offer.Size{{Name: "small", VCPUs: 1, MemoryBytes: 1 << 30, Zones: []string{"a", "b"}}},
		DiskTypes: []offer.DiskType{{Name: "solid", MinBytes: 1, MaxBytes: 1 << 50, Zones: []string{"a", "b"}}},
		Images:    []offer.Image{{Name: "i"}},
	}
	f.Fuzz(func(tt *testing.T, source []byte) {
		nodes, found := lang.ReadInputs("x", source)
		if found.HasErrors() {
			return
		}
		inputs := map[string]any{}
		for name, n := range nodes {
			inputs[name] = n.Plain()
			if in := t.Input(name); in != nil {
				if v, err := lang.Normalise(n, in.Shape); err == nil {
					inputs[name] = v
				}
			}
		}
		once, err := json.Marshal(Render(budget.Boundless(), Request{
			Template: t,
			Inputs:   inputs,
			Offers:   offers,
			Stack:    Stack{Name: "s"},
		}))
		if err != nil {
			tt.Fatal(err)
		}
		again, _ := json.Marshal(Render(budget.Boundless(), Request{
			Template: t,
			Inputs:   inputs,
			Offers:   offers,
			Stack:    Stack{Name: "s"},
		}))
		if string(again) != string(once) {
			tt.Errorf("two renderings of the same inputs differ:\n%s\n%s", once, again)
		}
	})
}
