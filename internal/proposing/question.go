package proposing

import (
	"context"
	"encoding/json"
	"errors"
	"hash/fnv"
	"strconv"
	"time"

	"undersail/internal/core/change"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/people"
	"undersail/internal/proposal"
	"undersail/internal/refusal"
)

// Question asks what a proposal would be, without making one: for a form while it is
// filled in. Form names whose it is; a question with a higher Seq ends those before it.
type Question struct {
	NewProposal
	Form string `json:"form,omitempty"`
	Seq  int64  `json:"seq,omitempty"`
	// Graph is the digest of the graph that the form has; another one is sent.
	Graph string `json:"graph,omitempty"`
}

// Answer is what a proposal would be.
type Answer struct {
	Seq      int64  `json:"seq"`
	Stack    string `json:"stack"`
	Template string `json:"template"`
	Account  string `json:"account"`
	Region   string `json:"region"`
	// New says that no stack of the name was applied yet.
	New   bool   `json:"new"`
	Title string `json:"title"` // of the template
	Pages []Page `json:"pages"`
	// Presets are those of the template; Guide is what it will say of its use, with
	// blanks for what is not known yet.
	Presets []PresetCard `json:"presets"`
	Guide   string       `json:"guide,omitempty"`
	// Totals are what it has in all; Networks the ranges of its networks, drawn.
	Totals   fit.Totals       `json:"totals"`
	Networks []AddressPicture `json:"networks"`
	// Disks tell how its disks lie on its machines, Usable what is left of them after
	// redundancy.
	Disks  []fit.Disks     `json:"disks"`
	Usable []render.Usable `json:"usable"`
	// Findings are those that belong to no input.
	Findings []render.Finding `json:"findings"`
	Errors   int              `json:"errors"`
	Summary  string           `json:"summary"`
	Cost     price.Cost       `json:"cost"`
	CostNow  price.Cost       `json:"cost_now"`
	Seconds  float64          `json:"seconds"`
	Longest  []string         `json:"longest"`
	Rate     float64          `json:"rate"`
	Quota    []QuotaLine      `json:"quota"`
	Outputs  []render.Output  `json:"outputs"`
	Consents []render.Consent `json:"consents"`
	// Interruptions are what happens to what serves.
	Interruptions []change.Interruption `json:"interruptions,omitempty"`
	Compliance    []render.Compliance   `json:"compliance"`
	// Graph tells what waits for what, where it is another than the form has.
	GraphDigest string    `json:"graph_digest"`
	Graph       []Node    `json:"graph,omitempty"`
	At          time.Time `json:"at"` // of the offers that it rests on
}

// Node is one resource of a graph with what it waits for.
type Node struct {
	Name   string   `json:"name"`
	Type   string   `json:"type"`
	Change string   `json:"change"`
	After  []string `json:"after"`
}

// Superseded says that a newer question of the same form came.
var errSuperseded = &refusal.Error{
	Kind:   refusal.Conflict,
	Title:  "a newer question of this form came",
	Remedy: "wait for the answer to that",
}

// Check answers what a proposal would be. It calls no cloud and saves nothing, and it
// ends when whoever asks goes away or asks anew.
func (s *Proposing) Check(ctx context.Context, u people.User, q Question) (Answer, error) {
	ctx, done, err := s.newest(ctx, u, q)
	if err != nil {
		return Answer{}, err
	}
	defer done()
	if q.Stack == "" {
		q.Stack, q.unnamed = "draft", true
	}
	if !stackPattern.MatchString(q.Stack) || len(q.Stack) > 40 {
		return Answer{}, refusal.New(refusal.Invalid,
			"use up to 40 small letters, digits and hyphens, such as warning-site", "%q is not a name for a stack",
			q.Stack)
	}
	r, err := s.readFacts(ctx, u, q.NewProposal, true)
	if err != nil {
		return Answer{}, stopped(ctx, err)
	}
	judged, err := s.stages(ctx, r)
	var findings *refusal.Error
	if err != nil && (!errors.As(err, &findings) || findings.Kind != refusal.Findings || findings.Findings == nil) {
		return Answer{}, stopped(ctx, err)
	}
	if ctx.Err() != nil {
		return Answer{}, stopped(ctx, ctx.Err())
	}
	return s.answer(ctx, q, r, judged)
}

// stopped tells that a newer question came, where that is why a question ended.
func stopped(ctx context.Context, err error) error {
	if context.Cause(ctx) == error(errSuperseded) {
		return errSuperseded
	}
	return err
}

// newest ends older questions of a form, and gives a context that a newer one ends.
func (s *Proposing) newest(ctx context.Context, u people.User, q Question) (context.Context, func(), error) {
	if q.Form == "" {
		return ctx, func() {}, nil
	}
	key := u.Name + "\x00" + q.Form
	s.mu.Lock()
	defer s.mu.Unlock()
	if was, there := s.asking[key]; there {
		if was.seq > q.Seq {
			return ctx, nil, errSuperseded
		}
		was.cancel(errSuperseded)
	}
	ctx, cancel := context.WithCancelCause(ctx)
	mine := &asking{q.Seq, cancel}
	s.asking[key] = mine
	return ctx, func() {
		cancel(nil)
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.asking[key] == mine {
			delete(s.asking, key)
		}
	}, nil
}

func (s *Proposing) answer(ctx context.Context, q Question, r *reading, j proposal.Judged) (Answer, error) {
	a := Answer{
		Seq:        q.Seq,
		Stack:      r.stack.Name,
		Template:   r.Text.Name + "@" + r.Text.Version,
		Account:    r.stack.Account,
		Region:     r.stack.Region,
		Findings:   []render.Finding{},
		Summary:    change.Summary(j.Plan.Changes),
		Cost:       j.Cost,
		CostNow:    j.CostNow,
		Seconds:    j.Seconds,
		Longest:    j.Longest,
		Rate:       r.Durations.Rate,
		Outputs:    []render.Output{},
		Consents:   []render.Consent{},
		Compliance: []render.Compliance{},
		Quota:      []QuotaLine{},
		New:        r.isNew,
		Title:      r.Template.About.Title,
		Pages:      pages(r, j),
		Presets:    presetCards(r.Template),
		Networks:   []AddressPicture{},
		Disks:      []fit.Disks{},
		Usable:     []render.Usable{},
	}
	if r.Offers.Home != nil {
		a.At = r.Offers.Home.At
	}
	a.Consents, a.Interruptions = append(a.Consents, j.Consents...), j.Interruptions
	if j.Plan.Rendering != nil {
		a.Outputs = append(a.Outputs, j.Plan.Rendering.Outputs...)
		a.Compliance = append(a.Compliance, j.Plan.Rendering.Compliance...)
		a.Guide, a.Totals, a.Networks = j.Plan.Rendering.Guide, fit.Total(j.Plan.Rendering, r.Offers),
			picturesOf(r, j.Plan.Rendering)
		a.Disks = fit.Layout(j.Plan.Rendering, r.Offers)
		a.Usable = append(a.Usable, j.Plan.Rendering.Usable...)
	}
	for _, f := range j.Findings {
		if f.Severity == lang.Error {
			a.Errors++
		}
		if f.Inputs == "" {
			a.Findings = append(a.Findings, f)
		}
	}
	a.Quota = quotaLines(r.Offers, j.Reserves())
	nodes := nodesOf(j)
	if a.GraphDigest = digestOf(nodes); a.GraphDigest != q.Graph {
		a.Graph = nodes
	}
	return a, nil
}

func nodesOf(j proposal.Judged) []Node {
	out := []Node{}
	if j.Plan.Rendering == nil {
		return out
	}
	kinds := map[string]change.Kind{}
	for _, c := range j.Plan.Changes {
		kinds[c.Resource] = c.Change
	}
	for _, r := range j.Plan.Rendering.Resources {
		n := Node{Name: r.Name, Type: r.Type, Change: string(kinds[r.Name]), After: []string{}}
		for _, a := range r.After {
			n.After = append(n.After, a.Name)
		}
		out = append(out, n)
	}
	return out
}

// digestOf tells graphs apart.
func digestOf(nodes []Node) string {
	h := fnv.New64a()
	json.NewEncoder(h).Encode(nodes)
	return strconv.FormatUint(h.Sum64(), 36)
}
