package main

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"strings"

	"go.yaml.in/yaml/v4"

	"undersail/examples"
	"undersail/internal/core/lang"
	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/library"
	"undersail/internal/proposing"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/sim"
)

// whole are the examples in which a process is killed, the longest last. Region is
// north-fell where empty; given are inputs beside those of their files.
var whole = []struct {
	name, region string
	secrets      map[string]string
	later        map[string]any // what its run waits for in the middle
}{
	{name: "warning-site"}, {name: "field-app"}, {name: "coast-tiers"}, {name: "reading-store"},
	{name: "forecast-cluster"}, {name: "duty-rota"}, {name: "reading-workers"},
	{name: "cluster-bootstrap", later: map[string]any{"serial": "SALT-42"}}, {name: "chart-desk"},
	{name: "gauge-controller"}, {name: "query-board"}, {name: "model-queue"}, {name: "forecast-tiers"},
	{name: "station-services"},
	{name: "survey-router", secrets: map[string]string{"licence": "Not-a-real-key-16"}},
	{name: "notice-appliance", secrets: map[string]string{"licence": "Not-a-real-key-16"}},
	{name: "season-model", region: "ember-coast"}, {name: "stretched-cloud"},
}

// examples makes and retires examples whole, and kills the process at a random moment of
// each run.
func (h *harness) examples(kills int) int {
	r := servicetest.NewWith(h, sim.Config{
		Pace:   120,
		Quotas: map[string]int64{"networks": 200, "addresses": 200, "disk_gib": 100_000, "vcpus": 1000, "hosts": 20},
	})
	author, end := r.Still(engine.Config{}, nil)
	h.Cleanup(end)
	ctx := context.Background()
	bad, hits := 0, 0
	p := h.replica(r, r.KeyFile)
	for i := range kills {
		e := whole[i/2%len(whole)]
		stack, retires := fmt.Sprintf("whole-%d", i/2), i%2 == 1
		proposal, err := h.proposed(author, r, stack, e.name, cmp.Or(e.region, "north-fell"), e.secrets, retires)
		if err != nil {
			panic(e.name + ": " + servicetest.Explain(err))
		}
		id := r.Carry(author, proposal)
		after, hit := h.strike(author, p, id, proposal.Seconds)
		hits += hit
		p = h.replica(r, r.KeyFile)
		run := r.Await(author, id)
		if run.State == state.Parked && e.later != nil {
			if _, err := author.Proposing.Give(ctx, r.Admin, stack, e.later); err != nil {
				panic(servicetest.Explain(err))
			}
			run = r.Await(author, id)
		}
		// where a secret goes was not known before
		if run.State == state.Parked && run.ParkedFor == state.ForAgreement {
			if err := agreeTo(ctx, author, r, stack); err != nil {
				panic(e.name + ": " + servicetest.Explain(err))
			}
			run = r.Await(author, id)
		}
		var differences []string
		if run.State != state.Done {
			differences = append(differences, fmt.Sprintf("run %d ended %s: %s", id, run.State, run.Reason))
		}
		differences = append(differences, r.Differences(author, stack, retires)...)
		bad += len(differences)
		if len(differences) > 0 {
			verdict(fmt.Sprintf("kill %d of %d, %s (%s) after %s", i+1, kills, e.name, proposal.Kind, after),
				differences)
		}
	}
	p.kill()
	say("examples: %d kills, %d in the middle of a run, %d differences", kills, hits, bad)
	return bad
}

// agreeTo looks at what a run asks in its middle, and agrees.
func agreeTo(ctx context.Context, s *service.Service, r *servicetest.Rig, stack string) error {
	asked, err := s.Proposing.Continue(ctx, r.Admin, stack)
	if err == nil {
		_, err = s.Proposing.Accept(ctx, r.Admin, asked.ID, servicetest.All(asked), "")
	}
	return err
}

// proposed makes or retires an example by its inputs file.
func (h *harness) proposed(s *service.Service, r *servicetest.Rig, stack, name, region string,
	secrets map[string]string, retires bool) (proposing.Proposal, error) {
	ctx := context.Background()
	if retires {
		if name == "field-app" { // its address is guarded: the guard goes first
			b, err := h.bundle(name)
			if err != nil {
				return proposing.Proposal{}, err
			}
			open, err := s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
				Stack:  stack,
				File:   b.File,
				Source: unguarded(b.Source),
				Parts:  b.Parts,
			})
			if err != nil {
				return open, err
			}
			if run := r.Await(s, r.Carry(s, open)); run.State != state.Done {
				return open, fmt.Errorf("run %d ended %s: %s", run.ID, run.State, run.Reason)
			}
		}
		return s.Proposing.Retire(ctx, r.Admin, stack)
	}
	b, err := h.bundle(name)
	if err != nil {
		return proposing.Proposal{}, err
	}
	inputs := map[string]any{}
	raw, err := fs.ReadFile(examples.Files, name+".inputs.yaml")
	if err == nil {
		err = yaml.Load(raw, &inputs)
	}
	if err != nil {
		return proposing.Proposal{}, err
	}
	return s.Proposing.Propose(ctx, r.Admin, proposing.NewProposal{
		Stack:   stack,
		File:    b.File,
		Source:  b.Source,
		Parts:   b.Parts,
		Account: "saltmere-lab",
		Region:  region,
		Inputs:  inputs,
		Secrets: secrets,
	})
}

func (h *harness) bundle(name string) (lang.Bundle, error) {
	return library.Read(examples.Files, name+library.Suffix, library.FromFolder(examples.Files))
}

// unguarded is a template whose guards are lifted.
func unguarded(source string) string {
	return strings.ReplaceAll(source, "guard: true", "guard: false")
}
