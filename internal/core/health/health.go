// Package health decides from evidence whether a resource is healthy. It asks
// nothing itself: probes bring the evidence, this package gives the verdict.
package health

import (
	"fmt"
	"time"

	"undersail/internal/core/resource"
)

// Check is one thing that must hold before a resource counts as healthy.
type Check struct {
	// Name is unique within its resource, such as phase or http-1.
	Name string `json:"name"`
	// Kind is phase, resolves, or one of KindNames.
	Kind string `json:"kind"`
	// Spec holds the properties of the kind; see Kinds.
	Spec map[string]any `json:"spec,omitempty"`
	// Within is the deadline in cloud seconds after creation returned.
	Within int64 `json:"within"`
	// Passes is how many answers in a row must be right.
	Passes int `json:"passes"`
	// SteadyFor is how long, in cloud seconds, the answers must have stayed right.
	SteadyFor int64 `json:"steady_for,omitempty"`
	// Marks is the spec with marks in the places of secrets and attributes, where its template
	// has secrets.
	Marks map[string]any `json:"-"`
}

// Evidence is what one look saw.
type Evidence struct {
	Resource string    `json:"resource"`
	Check    string    `json:"check"`
	At       time.Time `json:"at"`
	Asked    string    `json:"asked"`
	Answer   string    `json:"answer"`
	Passed   bool      `json:"passed"`
	// Unasked says that nobody asked, since no packets of ours get there: the check then
	// holds nothing up, and proves nothing.
	Unasked bool `json:"unasked,omitempty"`
	// Final says that no later look can pass, such as a phase of failed.
	Final bool `json:"final,omitempty"`
	// Took is how long the answer took, in milliseconds.
	Took int64 `json:"took_ms"`
}

// State is what a verdict says.
type State string

// The verdicts.
const (
	Settling  State = "settling"
	Healthy   State = "healthy"
	Unhealthy State = "unhealthy"
)

// Verdict is the state with the reason in words.
type Verdict struct {
	State  State
	Reason string
}

// Window is how long, in cloud seconds, a piece of evidence speaks for now. A
// resource is proved when all of its checks hold within one window.
const Window = 60

// Progress counts the passes of one check. The zero value has seen nothing.
type Progress struct {
	InARow int
	Since  time.Time // when the row of passes began
	Last   Evidence
	// Held says that the check held once, whatever came after.
	Held bool
}

// After takes a piece of evidence of the check into account. Rate is how many
// cloud seconds pass in a real one.
func (c Check) After(p Progress, e Evidence, rate float64) Progress {
	p.Last = e
	if !e.Passed && !e.Unasked {
		p.InARow, p.Since = 0, time.Time{}
		return p
	}
	if p.InARow == 0 {
		p.Since = e.At
	}
	p.InARow++
	p.Held = p.Held || c.holds(p, rate)
	return p
}

// holds reports whether the last answers were right often and long enough.
func (c Check) holds(p Progress, rate float64) bool {
	return p.Last.Unasked ||
		p.InARow >= max(1, c.Passes) && p.Last.At.Sub(p.Since).Seconds()*rate >= float64(c.SteadyFor)
}

// Proof is how far the checks of one resource are, by the names of the checks.
type Proof map[string]Progress

// Due lists the checks to look at now: those that do not hold; when all hold,
// those that were last looked at before the window. It is empty once the
// resource is proved. Looking at what held long ago only at the end keeps the
// looks few, and still finds what broke meanwhile.
func (p Proof) Due(checks []Check, now time.Time, rate float64) []Check {
	var open, old []Check
	for _, c := range checks {
		x := p[c.Name]
		if !c.holds(x, rate) {
			open = append(open, c)
		} else if now.Sub(x.Last.At).Seconds()*rate > Window {
			old = append(old, c)
		}
	}
	if len(open) > 0 {
		return open
	}
	return old
}

// leastDeadline is the real time that anything is given on a clock that runs fast.
const leastDeadline = 15 * time.Second

// forever bounds deadlines far beyond any run, and before durations overflow.
const forever = 100 * 365 * 24 * time.Hour

// Deadline is the real time that something may take which has so many cloud seconds,
// on a clock of so many cloud seconds to a real one. Where that clock runs fast, the
// cloud alone is fast: our calls, commits and probes take the real time that they
// take, so a deadline is never shorter than what a busy machine needs for them.
func Deadline(seconds int64, rate float64) time.Duration {
	return deadline(seconds, rate, leastDeadline)
}

// Patience is the real time that a step may take altogether. It is longer than any
// deadline of a check where both are at their least, since the check says more of what is
// wrong.
func Patience(seconds int64, rate float64) time.Duration {
	return deadline(seconds, rate, 2*leastDeadline)
}

func deadline(seconds int64, rate float64, least time.Duration) time.Duration {
	d := min(float64(seconds)/rate, forever.Seconds())
	if rate > 1 {
		d = max(d, least.Seconds())
	}
	return time.Duration(d * float64(time.Second))
}

// Verdict judges all checks of a resource together. Made is when creation
// returned. A check that held once may recover until the last deadline of all.
func (p Proof) Verdict(checks []Check, made, now time.Time, rate float64) Verdict {
	last := int64(0)
	for _, c := range checks {
		last = max(last, c.Within)
	}
	verdict := Verdict{State: Healthy}
	for _, c := range checks {
		x := p[c.Name]
		if c.Within > 0 && x.Held {
			c.Within = last
		}
		v := c.judge(x, made, now, rate)
		if v.State == Unhealthy {
			return v
		}
		if v.State == Healthy && now.Sub(x.Last.At).Seconds()*rate > Window {
			v = Verdict{Settling, c.Name + " is looked at once more"}
		}
		if v.State == Settling && verdict.State == Healthy {
			verdict = v
		}
	}
	return verdict
}

// judge gives the verdict over one check.
func (c Check) judge(p Progress, made, now time.Time, rate float64) Verdict {
	if p.Last.Final && !p.Last.Passed {
		return Verdict{Unhealthy, fmt.Sprintf("asked %s, got %s", p.Last.Asked, p.Last.Answer)}
	}
	if c.holds(p, rate) {
		return Verdict{Healthy, fmt.Sprintf("%s answered %s", c.Name, p.Last.Answer)}
	}
	if c.Within > 0 && now.Sub(made) > Deadline(c.Within, rate) {
		within := resource.FormatSpan(c.Within)
		if p.Last.Asked == "" {
			return Verdict{Unhealthy, fmt.Sprintf("no answer within %s", within)}
		}
		return Verdict{Unhealthy,
			fmt.Sprintf("asked %s, got %s; not right within %s", p.Last.Asked, p.Last.Answer, within)}
	}
	if p.InARow > 0 {
		return Verdict{Settling, fmt.Sprintf("pass %d of %d", p.InARow, max(1, c.Passes))}
	}
	return Verdict{Settling, "not yet"}
}

// Defaults are the checks that a resource of a type has which is wanted so.
func Defaults(t resource.Type, want map[string]any) []Check {
	checks := []Check{{Name: "phase", Kind: "phase", Passes: 1, Within: t.Patience}}
	for _, p := range t.Proves {
		c := Check{
			Name:   p.Attribute,
			Kind:   "tells",
			Passes: 1,
			Within: t.Patience,
			Spec:   map[string]any{"attribute": p.Attribute},
		}
		switch is, least, asked := p.Wants(t, want); {
		case p.Resolves:
			c.Kind, c.Spec = "resolves", nil
		case !asked:
			continue
		case is != nil:
			c.Spec["is"] = is
		default:
			c.Spec["least"] = least
		}
		checks = append(checks, c)
	}
	return checks
}
