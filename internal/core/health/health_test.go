package health

import (
	"strings"
	"testing"
	"time"
)

func TestJudge(t *testing.T) {
	t.Parallel()
	made := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	at := func(s int, passed bool) Evidence {
		return Evidence{
			Asked:  "GET /ready",
			Answer: "503 warming up",
			At:     made.Add(time.Duration(s) * time.Second),
			Passed: passed,
		}
	}
	for _, c := range []struct {
		about string
		check Check
		seen  []Evidence
		now   int
		rate  float64
		want  State
		word  string
	}{
		{"one pass is enough by default", Check{Within: 60}, []Evidence{at(1, true)}, 2, 1, Healthy, ""},
		{"passes must come in a row", Check{Within: 60, Passes: 2}, []Evidence{at(1, true), at(2, false), at(3, true)},
			3, 1, Settling, "pass 1 of 2"},
		{"two in a row", Check{Within: 60, Passes: 2}, []Evidence{at(1, true), at(2, true)}, 3, 1, Healthy, ""},
		{"steady for a while", Check{Within: 60, SteadyFor: 10}, []Evidence{at(1, true), at(5, true)}, 6, 1, Settling,
			""},
		{"steady long enough", Check{Within: 60, SteadyFor: 10}, []Evidence{at(1, true), at(12, true)}, 13, 1, Healthy,
			""},
		{"too late", Check{Within: 60}, []Evidence{at(61, false)}, 62, 1, Unhealthy,
			"asked GET /ready, got 503 warming up; not right within 1m"},
		{"deadlines are on the cloud's clock", Check{Within: 1200}, []Evidence{at(21, false)}, 21, 60, Unhealthy,
			"20m"},
		{"a fast clock does not make us fast", Check{Within: 60}, []Evidence{at(14, false)}, 14, 60, Settling, ""},
		{"a fast clock is not waited for without end", Check{Within: 60}, []Evidence{at(16, false)}, 16, 60, Unhealthy,
			"not right within 1m"},
		{"nothing seen", Check{Within: 60}, nil, 62, 1, Unhealthy, "no answer within 1m"},
		{"no later look can pass", Check{Within: 60}, []Evidence{{Final: true, Asked: "phase", Answer: "broken"}}, 1, 1,
			Unhealthy, "broken"},
	} {
		var p Progress
		for _, e := range c.seen {
			p = c.check.After(p, e, c.rate)
		}
		got := Proof{
			c.check.Name: p,
		}.Verdict([]Check{c.check}, made, made.Add(time.Duration(c.now)*time.Second), c.rate)
		if got.State != c.want || !strings.Contains(got.Reason, c.word) {
			t.Errorf("%s: %v, want %s with %q", c.about, got, c.want, c.word)
		}
	}
}

func TestHealthyMeansAllChecksTogether(t *testing.T) {
	t.Parallel()
	made := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return made.Add(time.Duration(s) * time.Second) }
	checks := []Check{{Name: "tcp", Within: 60}, {Name: "http", Within: 600, Passes: 2}}
	proof := Proof{}
	see := func(check, s int, passed bool) {
		c := checks[check]
		proof[c.Name] = c.After(proof[c.Name], Evidence{Asked: c.Name, Answer: "answer", At: at(s), Passed: passed}, 1)
	}
	due := func(s int) string {
		var names []string
		for _, c := range proof.Due(checks, at(s), 1) {
			names = append(names, c.Name)
		}
		return strings.Join(names, " ")
	}
	verdict := func(s int) State { return proof.Verdict(checks, made, at(s), 1).State }
	see(0, 5, true)
	see(1, 5, false)
	if due(6) != "http" || verdict(6) != Settling {
		t.Errorf("what holds is asked again before the rest holds: %q, %s", due(6), verdict(6))
	}
	see(1, 200, true)
	see(1, 210, true)
	if due(211) != "tcp" || verdict(211) != Settling {
		t.Errorf("a pass of long ago speaks for now: %q, %s", due(211), verdict(211))
	}
	see(0, 212, false)
	if due(213) != "tcp" || verdict(213) != Settling {
		t.Errorf("what held once may not recover: %q, %s", due(213), verdict(213))
	}
	if v := proof.Verdict(checks, made, at(601), 1); v.State != Unhealthy || !strings.Contains(v.Reason, "asked tcp") {
		t.Errorf("what broke for good ends %v", v)
	}
	see(0, 220, true)
	if due(221) != "" || verdict(221) != Healthy {
		t.Errorf("all passed within one window: %q, %s", due(221), verdict(221))
	}
}

// TestTheFirstThatSettlesIsTold: of several that are not proved yet the first one is named, and
// what broke for good comes before all of them.
func TestTheFirstThatSettlesIsTold(t *testing.T) {
	t.Parallel()
	made := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	at := func(s int) time.Time { return made.Add(time.Duration(s) * time.Second) }
	checks := []Check{{Name: "tcp", Within: 60}, {Name: "http", Within: 60, Passes: 2}, {Name: "page", Within: 60}}
	proof := Proof{}
	see := func(check, s int, passed bool) {
		c := checks[check]
		proof[c.Name] = c.After(proof[c.Name], Evidence{Asked: c.Name, Answer: "no", At: at(s), Passed: passed}, 1)
	}
	see(0, 5, true)
	see(1, 5, true)
	see(2, 6, false)
	if v := proof.Verdict(checks, made, at(7), 1); v.State != Settling || v.Reason != "pass 1 of 2" {
		t.Errorf("the first that settles is not told: %v", v)
	}
	if v := proof.Verdict(checks, made, at(61), 1); v.State != Unhealthy || !strings.Contains(v.Reason, "http") {
		t.Errorf("the first that broke is not told: %v", v)
	}
}
