package stacks

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"undersail/internal/core/resource"
)

// Guide is what somebody needs who uses a stack for the first time.
type Guide struct {
	Stack string `json:"stack"`
	// Text is the template's guide with its values filled in, Markdown.
	Text string `json:"text"`
	// Machines tell how each machine is connected to.
	Machines []GuideMachine `json:"machines"`
	// Certificates are those that probes saw, to compare with.
	Certificates []SeenCertificate `json:"certificates"`
}

// GuideMachine is a machine that can be connected to.
type GuideMachine struct {
	Resource string `json:"resource"`
	Command  string `json:"command"`
	Through  string `json:"through,omitempty"`
}

// SeenCertificate is the fingerprint of a certificate that a probe was shown last.
type SeenCertificate struct {
	Resource    string `json:"resource"`
	Asked       string `json:"asked"`
	Fingerprint string `json:"fingerprint"`
}

// certificateSeen is how a probe tells of a certificate; see internal/probe.
var certificateSeen = regexp.MustCompile(`certificate SHA-256 ([0-9A-F:]{95})`)

// Guide fills in the guide of a stack and tells how its machines are connected to.
func (s *Stacks) Guide(ctx context.Context, name string) (Guide, error) {
	out := Guide{Stack: name, Machines: []GuideMachine{}, Certificates: []SeenCertificate{}}
	st, err := s.Living(ctx, name)
	if err != nil {
		return out, err
	}
	m, err := s.machines(ctx, st)
	if err != nil {
		return out, err
	}
	out.Text = m.rendering.Guide
	for _, r := range m.rows {
		if !resource.IsMachine(r.Type) {
			continue
		}
		hops, err := m.wayTo(st.Name, r.Name)
		if err != nil {
			continue // it cannot be connected to: connecting says why
		}
		g := GuideMachine{Resource: r.Name, Command: "undersail connect " + name + " " + quoted(r.Name)}
		if len(hops) > 1 {
			g.Through = hops[0].Resource
		}
		out.Machines = append(out.Machines, g)
	}
	evidence, err := s.store.LastEvidence(ctx, st.ID)
	if err != nil {
		return out, fmt.Errorf("reading the last evidence of stack %s: %w", st.ID, err)
	}
	for _, e := range evidence {
		if seen := certificateSeen.FindStringSubmatch(e.Answer); seen != nil {
			out.Certificates = append(out.Certificates, SeenCertificate{e.Resource, e.Asked, seen[1]})
		}
	}
	return out, nil
}

// quoted writes a name as a shell takes it.
func quoted(name string) string {
	if strings.ContainsAny(name, "[]\"' ") {
		return "'" + strings.ReplaceAll(name, "'", `'\''`) + "'"
	}
	return name
}
