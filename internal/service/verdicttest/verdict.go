// Package verdicttest holds what is said of a proposal beforehand against what comes
// of it: random inputs of the examples on random markets are proposed, then made by
// the simulated cloud. What is accepted here must come up healthy; what is refused
// for the cloud's sake is tried past our judgement.
package verdicttest

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"

	"undersail/examples"
	"undersail/internal/cloud"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim"
)

// templates are the examples that Larch can make without another stack or files.
var templates = []string{"warning-site", "gauge-intake", "tide-archive", "reading-store", "duty-desk", "field-app",
	"forecast-cluster"}

// Trials are proposals on one random market, one after the other. What is made stays,
// so that later ones meet networks that are there and quotas that are used.
type Trials struct {
	r       *servicetest.Rig
	s       *service.Service
	random  *rand.Rand
	adapter cloud.Adapter
	account store.Account
	number  int
}

// Outcome is what came of one proposal.
type Outcome struct {
	Template string // its name, or its text where it is drawn
	Inputs   map[string]any
	// Refused are the errors that we told; Cloud is what the cloud or a check said when
	// it was made all the same, empty where all came up healthy.
	Refused []render.Finding
	Cloud   string
	// Judged says that the cloud was asked: what a template's own rules refuse is not.
	Judged bool
}

// String tells an outcome in a line.
func (o Outcome) String() string {
	word := "accepted"
	if o.Refused != nil {
		word = "refused"
		for _, f := range o.Refused {
			word += fmt.Sprintf("; %s %s: %s", f.Code, f.Place, f.Message)
		}
	}
	return fmt.Sprintf("%s %v: %s; the cloud: %q", o.Template, o.Inputs, word, o.Cloud)
}

// Wrong tells what is wrong with an outcome: it failed for something that could be
// known, or was refused though the cloud takes it.
func (o Outcome) Wrong() (failed, refused bool) {
	return o.Refused == nil && o.Cloud != "", o.Refused != nil && o.Judged && o.Cloud == ""
}

// Run makes so many proposals on each of some markets, some of them at a time, and
// reports each. It waits more than it computes.
func Run(seeds []uint64, each, workers int, report func(seed uint64, o Outcome, err error)) {
	markets := make(chan uint64)
	var all sync.WaitGroup
	for range workers {
		all.Go(func() {
			for seed := range markets {
				oneMarket(seed, each, report)
			}
		})
	}
	for _, seed := range seeds {
		markets <- seed
	}
	close(markets)
	all.Wait()
}

func oneMarket(seed uint64, each int, report func(seed uint64, o Outcome, err error)) {
	h := &servicetest.Harness{}
	defer h.End()
	defer func() {
		if fault := recover(); fault != nil {
			report(seed, Outcome{}, fmt.Errorf("broken off: %v", fault))
		}
	}()
	trials := New(h, seed)
	for range each {
		o, err := trials.Next()
		if report(seed, o, err); err != nil {
			return
		}
	}
}

// New starts a cloud with a market of chance.
func New(t servicetest.T, seed uint64) *Trials {
	random := rand.New(rand.NewPCG(seed, 7))
	path, err := Market(random, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	r := servicetest.NewWith(t, sim.Config{Pace: 200, Rate: 100_000, Market: path})
	s, _ := r.Start(engine.Config{CallRate: 100_000}, nil)
	x := &Trials{r: r, s: s, random: random, adapter: cloud.Patient(r.Adapter())}
	me, err := x.adapter.WhoAmI(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	region := me.Regions[random.IntN(len(me.Regions))]
	if random.IntN(4) > 0 { // the market of this one has all that the examples use
		region = "north-fell"
	}
	x.account = store.Account{
		Name:       "saltmere-lab",
		Cloud:      "larch",
		Regions:    []string{region},
		ClockRate:  me.ClockRate,
		GuestRange: me.GuestRange,
	}
	return x
}

// Next makes one proposal of chance and finds out what comes of it.
func (x *Trials) Next() (Outcome, error) {
	ctx := context.Background()
	x.number++
	var o Outcome
	offers, err := x.s.Accounts.Offers(ctx, x.account.Name, x.account.Regions[0], true)
	if err != nil {
		return o, err
	}
	template, err := x.template(&o, &offers)
	if err != nil {
		return o, err
	}
	p, err := x.s.Proposing.Propose(ctx, x.r.Admin, proposing.NewProposal{
		Stack:   fmt.Sprintf("trial-%d", x.number),
		File:    "trial.sail.yaml",
		Source:  string(template.Source),
		Account: x.account.Name,
		Region:  x.account.Regions[0],
		Inputs:  o.Inputs,
	})
	var refused *refusal.Error
	switch {
	case errors.As(err, &refused) && refused.Kind == refusal.Findings && refused.Findings != nil:
		for _, f := range refused.Findings {
			if f.Severity == lang.Error {
				o.Refused = append(o.Refused, f)
			}
		}
		if o.Judged = ofTheCloud(o.Refused); o.Judged {
			x.past(&o, template, &offers)
		}
		return o, nil
	case err != nil:
		return o, errors.New(servicetest.Explain(err))
	}
	run := x.r.Await(x.s, x.r.Carry(x.s, p))
	for range 2 {
		if run.State == "done" {
			break
		}
		// A busy machine makes things late; what can never be fails again.
		if p, err = x.s.Proposing.Continue(ctx, x.r.Admin, p.Stack); err != nil {
			return o, errors.New(servicetest.Explain(err))
		}
		if p.State == proposing.Nothing {
			return o, nil
		}
		run = x.r.Await(x.s, x.goOn(p))
	}
	if o.Judged = true; run.State != "done" {
		o.Cloud = run.State + ": " + run.Reason
	}
	return o, nil
}

// goOn starts the run of what is left to do.
func (x *Trials) goOn(p proposing.Proposal) int64 {
	if p.State == state.Open {
		return x.r.Carry(x.s, p)
	}
	run, err := x.s.Proposing.Apply(context.Background(), x.r.Admin, p.ID, "")
	if err != nil {
		panic(servicetest.Explain(err))
	}
	return run.ID
}

// template draws the template of a trial, or draws the inputs of an example.
func (x *Trials) template(o *Outcome, offers *offer.Offers) (*lang.Template, error) {
	if x.random.IntN(3) == 0 {
		o.Template = templates[x.random.IntN(len(templates))]
		return x.example(o, offers)
	}
	o.Template = Template(x.random, offers, x.number)
	t, found := lang.Read("trial.sail.yaml", []byte(o.Template))
	if t == nil {
		return nil, found
	}
	return t, nil
}

// example draws the inputs of an example.
func (x *Trials) example(o *Outcome, offers *offer.Offers) (*lang.Template, error) {
	source, err := fs.ReadFile(examples.Files, o.Template+".sail.yaml")
	if err != nil {
		return nil, err
	}
	template, found := lang.Read(o.Template+".sail.yaml", source)
	if template == nil {
		return nil, found
	}
	raw, err := fs.ReadFile(examples.Files, o.Template+".inputs.yaml")
	if err != nil {
		return nil, err
	}
	given := map[string]any{}
	nodes, _ := lang.ReadInputs("inputs", raw)
	for name, n := range nodes {
		v, err := lang.Normalise(n, template.Input(name).Shape)
		if err != nil {
			return nil, err
		}
		given[name] = v
	}
	if zones, ok := given["zones"].([]any); ok { // those of the inputs file are of another region
		given["zones"] = asList(offers.Zones[:min(len(zones), len(offers.Zones))])
	}
	// A range of its own, most often.
	if template.Input("range") != nil && x.random.IntN(3) > 0 {
		given["range"] = fmt.Sprintf("10.%d.0.0/20", 100+x.number)
	}
	o.Inputs = drawn(x.random, template, offers, given)
	if free, ok := given["range"]; ok && x.random.IntN(3) > 0 {
		o.Inputs["range"] = free
	}
	return template, nil
}

// cloudly are the codes of findings that say what the cloud would not take, or that no
// check could pass.
var cloudly = []string{"not-offered", "quota", "range-in-use", "zones", "disk-size", "limit", "not-supported",
	"package", "check-never", "address-plan", "taken", "not-there", "no-sense", "host-room", "engine"}

// ofTheCloud reports whether all errors say what the cloud would not take: a template's
// own rules are not the cloud's.
func ofTheCloud(list []render.Finding) bool {
	return !slices.ContainsFunc(list, func(f render.Finding) bool {
		return !slices.Contains(cloudly, f.Code) ||
			strings.HasPrefix(f.Place, "inputs.") && strings.Contains(f.Message, "needed")
	})
}

// past makes what was refused past our judgement, and takes it away again.
func (x *Trials) past(o *Outcome, template *lang.Template, offers *offer.Offers) {
	for _, image := range offers.Images {
		if accepter, can := x.adapter.(cloud.Accepter); can && image.Terms != nil && !image.Terms.Accepted {
			if err := accepter.AcceptTerms(context.Background(), image.Terms.Name); err != nil {
				o.Cloud = err.Error()
				return
			}
		}
	}
	request := render.Request{
		Template: template,
		Inputs:   o.Inputs,
		Offers:   offers,
		Secrets:  map[string]string{},
		Stack: render.Stack{
			Name:    fmt.Sprintf("trial-%d", x.number),
			ID:      render.FixedID,
			Account: x.account.Name,
			Cloud:   "larch",
			Region:  x.account.Regions[0],
		},
	}
	for _, in := range template.Inputs {
		if in.Secret && in.Generate {
			request.Secrets[in.Name] = in.Name
		}
	}
	if err := try(x.adapter, x.account, request, fmt.Sprint(x.number)); err != nil {
		o.Cloud = err.Error()
	}
}
