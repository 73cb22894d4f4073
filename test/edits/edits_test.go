// Package edits takes the examples through the changes that their authors and
// operators make, and holds what each proposal says against what stands beside it.
package edits

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/templates"
	"undersail/sim"
)

func TestMain(m *testing.M) { servicetest.Main(m) }

// edit is one change of mind: inputs, or words of the template, or both. What is
// expected is every change of a resource, in order, and nothing more; agree are the
// consents that have to be asked for. Refused is the finding that forbids the edit.
type edit struct {
	about   string
	inputs  map[string]any
	secrets map[string]string
	words   []string // pairs: what stands in the template, and what shall
	want    string
	agree   []string
	refused string
}

type in = map[string]any

// edited is an example with what it is first made with, and its edits one after the
// other.
type edited struct {
	template string
	inputs   in
	edits    []edit
}

var (
	lose = []string{change.LoseData}
	// rewords are edits that change the text that a secret goes to a machine with.
	rewords = []string{"secret-use"}
)

var examples = []edited{
	{"warning-site", in{}, []edit{
		{about: "a larger machine", inputs: in{"size": "plain-2"}, want: "alter site"},
		{about: "a smaller machine", inputs: in{"size": "plain-1"}, want: "alter site"},
		{
			about:  "readers from two ranges",
			inputs: in{"readers": []any{"127.0.0.0/8", "10.0.0.0/8", "0.0.0.0/0"}},
			want:   "alter web_rules",
		},
		{
			about:  "the middle range goes",
			inputs: in{"readers": []any{"127.0.0.0/8", "0.0.0.0/0"}},
			want:   "alter web_rules",
		},
		{about: "the same ranges in another order", inputs: in{"readers": []any{"0.0.0.0/0", "127.0.0.0/8"}}, want: ""},
		{about: "another headline at first boot", inputs: in{"headline": "High water at noon"}, want: "rebuild site"},
		{about: "another zone", inputs: in{"zone": "north-fell-b"}, want: "rebuild subnet, rebuild site"},
		{
			about:  "another range",
			inputs: in{"range": "10.40.8.0/24"},
			want:   "rebuild net, rebuild subnet, rebuild web_rules, rebuild site",
		},
		{
			about:  "a range around the one before",
			inputs: in{"range": "10.40.8.0/23"},
			want:   "rebuild net, rebuild subnet, rebuild web_rules, rebuild site",
		},
		{
			about: "a rename that is told",
			words: []string{"  net:\n    type: network", "  coast:\n    was: net\n    type: network", "=net.id",
				"=coast.id"},
			want: "alter coast",
		},
		{
			about: "a rename that is not",
			words: []string{"  coast:\n    was: net\n    type: network", "  shore:\n    type: network", "=coast.id",
				"=shore.id"},
			want: "create shore, rebuild subnet, rebuild web_rules, rebuild site, remove coast",
		},
		{
			about: "a guard",
			words: []string{"    type: instance\n", "    type: instance\n    guard: true\n"},
			want:  "alter site",
		},
		{about: "first boot of what is guarded", inputs: in{"headline": "Low water"}, refused: "guard"},
		{about: "the guard is lifted", words: []string{"    guard: true\n", ""}, want: "alter site"},
		{
			about: "an address in another region",
			words: []string{"outputs:\n", "  spare: {type: address, region: long-sound}\noutputs:\n"},
			want:  "create spare",
		},
		{about: "which moves", words: []string{"region: long-sound", "region: quarry-hill"}, want: "rebuild spare"},
		{
			about: "a new version with another output",
			words: []string{"version: 1.0.0", "version: 1.1.0", "outputs:\n",
				"outputs:\n  zone: {value: '=\"any\"', about: Zone}\n"},
			want: "",
		},
	}},
	{"tide-archive", in{"forecasters": "127.0.0.0/8"}, []edit{
		{about: "more years", inputs: in{"years": int64(8)}, want: "alter data"},
		{about: "fewer years", inputs: in{"years": int64(4)}, refused: "shrink"},
		{
			about:  "a faster disk",
			inputs: in{"disk_type": "solid-plus"},
			want:   "rebuild data, alter archive",
			agree:  lose,
		},
		{
			about: "the disk is to be kept",
			words: []string{"encrypted: true}\n", "encrypted: true}\n    at_retire: keep\n"},
			want:  "alter data",
		},
		{about: "the slower disk again", inputs: in{"disk_type": "solid"}, want: "rebuild data, alter archive"},
		{about: "other forecasters", inputs: in{"forecasters": "126.0.0.0/7"}, want: "alter rules"},
		{
			about:   "another password",
			secrets: map[string]string{"password": "Ebb-and-flow-2031"},
			want:    "alter entry, rebuild archive",
		},
		{
			about: "a rename of the disk that is told",
			words: []string{"  data:\n    type: disk\n", "  readings:\n    type: disk\n    was: data\n", "=data.",
				"=readings."},
			want: "alter readings",
		},
		{
			about: "and one that is not",
			words: []string{"  readings:\n    type: disk\n    was: data\n", "  store:\n    type: disk\n", "=readings.",
				"=store."},
			want: "create store, alter archive, keep readings",
		},
	}},
	{"duty-desk", in{"nodes": int64(3), "officers": int64(30), "officers_from": "127.0.0.0/8"}, []edit{
		{
			about:  "one desk is enough",
			inputs: in{"nodes": int64(1), "officers": int64(10)},
			want:   "keep store[second], keep store[third], remove desk[third], remove desk[second]",
		},
		{
			about:  "three are better, with what they decided",
			inputs: in{"nodes": int64(3), "officers": int64(30)},
			want:   "alter store[second], alter store[third], create desk[second], create desk[third]",
		},
		{
			about:  "more officers",
			inputs: in{"officers": int64(60)},
			want:   "alter desk[first], alter desk[second], alter desk[third]",
		},
		{
			about:  "larger disks, which first boot writes down",
			inputs: in{"disk": "20GiB"},
			want: "alter store[first], alter store[second], alter store[third], rebuild desk[first], rebuild " +
				"desk[second], rebuild desk[third]",
		},
		{about: "other tags, which others may alter on desks", inputs: in{"tags": in{"desk": "duty", "wing": "north"}},
			want: "alter net, alter subnet, alter rules, alter store[first], alter store[second], alter store[third]"},
	}},
	{"field-app", in{"team": "127.0.0.0/8", "second_runtime": "3.11", "records": true}, []edit{
		{about: "no metrics", inputs: in{"metrics": false}, want: "alter rules"},
		{about: "no machine for records", inputs: in{"records": false}, want: "rebuild server, remove records"},
		{about: "the same runtime twice", inputs: in{"runtime": "3.11"}, refused: "require"},
		{
			about: "the address is no longer guarded",
			words: []string{"    guard: true   # the address stands in the teams' handbooks\n", ""},
			want:  "alter front",
		},
		{about: "an older runtime beside", inputs: in{"second_runtime": "3.10"}, want: "rebuild server"},
	}},
	{"gauge-intake", in{
		"zones":         []any{"north-fell-a", "north-fell-b"},
		"workers":       int64(2),
		"admin_sources": []any{"127.0.0.0/8"},
	}, []edit{
		{
			about:  "two more workers",
			inputs: in{"workers": int64(4)},
			want:   "create worker[2], create worker[3], rebuild board",
		},
		{
			about:  "two workers less",
			inputs: in{"workers": int64(2)},
			want:   "rebuild board, remove worker[3], remove worker[2]",
		},
		{about: "larger workers", inputs: in{"worker_size": "plain-4"}, want: "alter worker[0], alter worker[1]"},
		{
			about:  "administrators from one more range",
			inputs: in{"admin_sources": []any{"127.0.0.0/8", "10.9.0.0/16"}},
			want:   "alter edge_rules",
		},
		{
			about:  "the zones trade places",
			inputs: in{"zones": []any{"north-fell-b", "north-fell-a"}},
			want: "rebuild edge_subnet, rebuild worker_subnet[north-fell-b], rebuild worker_subnet[north-fell-a], " +
				"rebuild gateway, rebuild worker[0], rebuild worker[1], rebuild board",
		},
		{about: "three workers in two zones", inputs: in{"workers": int64(3)}, refused: "require"},
	}},
	{"reading-store", in{"workers": int64(3), "forecasters": "127.0.0.0/8"}, []edit{
		{
			about:  "two more workers",
			inputs: in{"workers": int64(5)},
			want:   "create store[3], create store[4], create worker[3], create worker[4], rebuild head",
			agree:  rewords,
		},
		{
			about:  "one worker less",
			inputs: in{"workers": int64(4)},
			want:   "rebuild head, remove worker[4], remove store[4]",
			agree:  slices.Concat(lose, rewords),
		},
		{about: "a head without a public address", inputs: in{"head_public": false}, want: "rebuild head"},
		{about: "more redundancy", inputs: in{"redundancy": "raid6"}, want: "rebuild head", agree: rewords},
		{about: "more readings than fit", inputs: in{"gauges": int64(4000)}, refused: "require"},
	}},
	{"forecast-cluster", in{"duty_office": "127.0.0.0/8", "nodes": int64(2), "checked": true}, []edit{
		{about: "one more node", inputs: in{"nodes": int64(3)}, want: "create node[2]"},
		{
			about:  "larger nodes",
			inputs: in{"node_vcpus": int64(4)},
			want:   "alter node[0], alter node[1], alter node[2]",
		},
		{
			about:  "no database",
			inputs: in{"database": "none"},
			want:   "rebuild node[0], rebuild node[1], rebuild node[2], remove database, remove journal",
			agree:  lose,
		},
		{
			about:  "a small one after all",
			inputs: in{"database": "small"},
			want:   "create journal, create database, rebuild node[0], rebuild node[1], rebuild node[2]",
		},
	}},
	{"coast-tiers", in{"readers": []any{"127.0.0.0/8"}, "front": int64(2)}, []edit{
		{
			about:  "one more machine in front",
			inputs: in{"front": int64(3)},
			want:   "create front.machine[2].store, create front.machine[2].host",
		},
		{about: "a larger store", inputs: in{"store_size": "plain-2"}, want: "alter store.machine[0].host"},
		{
			about:  "one machine in front",
			inputs: in{"front": int64(1)},
			want: "remove front.machine[2].host, remove front.machine[2].store, remove front.machine[1].host, " +
				"remove front.machine[1].store",
			agree: lose,
		},
		{
			about:  "a network elsewhere",
			inputs: in{"range": "10.61.0.0/20"},
			want: "rebuild net, rebuild store.subnet, rebuild store.rules, rebuild store.machine[0].host, rebuild " +
				"middle.subnet, rebuild middle.rules, rebuild middle.machine[0].host, rebuild front.subnet, rebuild " +
				"front.rules, rebuild front.machine[0].host",
		},
	}},
	{"station-extension", in{"intake": "edited-gauge-intake"}, []edit{
		{about: "a zone", inputs: in{"zone": "north-fell-c"}, want: "rebuild subnet, rebuild station"},
		{about: "no zone again", inputs: in{"zone": nil}, want: "rebuild subnet, rebuild station"},
		{
			about: "a fixed name for the station",
			words: []string{"      size: plain-1\n", "      size: plain-1\n      name: pier\n"},
			want:  "alter station",
		},
	}},
}

// TestTheExamplesAreEdited makes each example and changes it, edit by edit.
func TestTheExamplesAreEdited(t *testing.T) {
	r := servicetest.NewWith(t, sim.Config{
		Pace:   400,
		Rate:   100_000,
		Quotas: map[string]int64{"networks": 100, "addresses": 100, "vcpus": 1000, "disk_gib": 100_000},
	})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	place, err := filepath.Abs("../../examples")
	if err != nil {
		t.Fatal(err)
	}
	s.Templates.OpenFolders(place)
	_, err = s.Templates.AddLibrary(context.Background(), r.Admin, templates.NewLibrary{
		Name:  "tide-office",
		Place: place,
	})
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for _, x := range examples {
		n += len(x.edits)
	}
	t.Logf("%d examples, %d edits", len(examples), n)
	intake := make(chan struct{})
	for _, x := range examples {
		t.Run(x.template, func(t *testing.T) {
			t.Parallel()
			if x.template == "station-extension" {
				<-intake
			}
			e := &editing{t: t, r: r, s: s, edited: x, stack: "edited-" + x.template}
			if x.template == "gauge-intake" { // nothing reads it while something of it is taken away
				defer close(intake)
			}
			e.make()
			for _, edit := range x.edits {
				e.edit(edit)
			}
		})
	}
}

// serving are the consents to what happens to what serves.
var serving = []string{change.StopServing, change.RebuildServing, change.RemoveServing}

// interrupts checks that a proposal asks about everything that serves and is stopped, made anew or
// removed, and about nothing else.
func (e *editing) interrupts(about string, p proposing.Proposal) {
	e.t.Helper()
	var told, want []string
	for _, i := range p.Interruptions {
		told = append(told, i.How+" "+i.Resource)
		if !slices.ContainsFunc(p.Consents,
			func(c render.Consent) bool { return c.Name == i.How && strings.Contains(c.About, i.Resource+" (") }) {
			e.t.Errorf("%s: nobody is asked about %s %s", about, i.How, i.Resource)
		}
	}
	for _, c := range p.Changes {
		t, _ := resource.ByName(c.Type)
		stops := slices.ContainsFunc(c.Fields, func(f change.Field) bool { return f.Alter == resource.NeedsStop })
		switch how := map[change.Kind]string{
			change.Rebuild: change.RebuildServing,
			change.Remove:  change.RemoveServing,
			change.Alter:   change.StopServing,
		}[c.Change]; {
		case how == "" || !t.Serves || how == change.StopServing && !stops:
		default:
			want = append(want, how+" "+c.Resource)
		}
	}
	slices.Sort(told)
	slices.Sort(want)
	if !slices.Equal(told, want) {
		e.t.Errorf("%s: told are %v, and what serves is %v", about, told, want)
	}
}

// editing is one example while it is edited.
type editing struct {
	edited
	t      *testing.T
	r      *servicetest.Rig
	s      *service.Service
	stack  string
	source string
	parts  []lang.Bundle
}

func (e *editing) ask(inputs map[string]any, secrets map[string]string, source string) (proposing.Proposal, error) {
	return e.s.Proposing.Propose(context.Background(), e.r.Admin, proposing.NewProposal{
		Stack:   e.stack,
		File:    e.template + ".sail.yaml",
		Source:  source,
		Parts:   e.parts,
		Account: "saltmere-lab",
		Region:  "north-fell",
		Inputs:  inputs,
		Secrets: secrets,
	})
}

func (e *editing) make() {
	e.t.Helper()
	t, err := e.s.Templates.Find(context.Background(), e.template)
	if err != nil {
		e.t.Fatal(err)
	}
	e.source, e.parts = t.Source, t.Parts
	p, err := e.ask(e.inputs, nil, e.source)
	if err != nil {
		e.t.Fatal(servicetest.Explain(err))
	}
	e.carry(p, "made")
}

func (e *editing) carry(p proposing.Proposal, about string) {
	e.t.Helper()
	run := e.r.Await(e.s, e.r.Carry(e.s, p))
	if run.State != "done" {
		e.t.Fatalf("%s: the run is %s: %s", about, run.State, run.Reason)
	}
	e.r.Settled(e.s, e.stack, e.t.Errorf)
}

func (e *editing) edit(x edit) {
	e.t.Helper()
	source := e.source
	for i := 0; i < len(x.words); i += 2 {
		if !strings.Contains(source, x.words[i]) {
			e.t.Fatalf("%s: the template does not say %q", x.about, x.words[i])
		}
		source = strings.ReplaceAll(source, x.words[i], x.words[i+1])
	}
	p, err := e.ask(x.inputs, x.secrets, source)
	var refused *refusal.Error
	if errors.As(err, &refused) && x.refused != "" {
		for _, f := range refused.Findings {
			if f.Severity == lang.Error && f.Code != x.refused {
				e.t.Errorf("%s: refused with %s: %s", x.about, f.Code, f.Message)
			}
		}
		return
	}
	if err != nil {
		e.t.Fatalf("%s: %s", x.about, servicetest.Explain(err))
	}
	var got, asked []string
	for _, c := range p.Changes {
		if c.Change != change.Same {
			got = append(got, fmt.Sprintf("%s %s", c.Change, c.Resource))
		}
	}
	for _, c := range p.Consents {
		if !slices.Contains(serving, c.Name) {
			asked = append(asked, c.Name)
		}
	}
	e.interrupts(x.about, p)
	if strings.Join(got, ", ") != x.want || x.refused != "" {
		e.t.Errorf("%s:\n got %s\nwant %s%s", x.about, strings.Join(got, ", "), x.want, x.refused)
	}
	if !slices.Equal(asked, x.agree) {
		e.t.Errorf("%s: asked for are the consents %v, expected %v: %v", x.about, asked, x.agree, p.Consents)
	}
	e.source = source
	e.carry(p, x.about)
	again, err := e.ask(nil, nil, source)
	if err != nil || again.State != "nothing" {
		e.t.Errorf("%s: proposed again it is %s %s (%v): %+v", x.about, again.State, again.Summary, err, again.Changes)
	}
}
