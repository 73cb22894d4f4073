package test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"
)

// wholeJob is a job that practitioners do, by its example: from the mistake typical of it
// to nothing left.
type wholeJob struct {
	about    string
	template string
	region   string   // north-fell where empty
	secrets  []string // inputs that somebody gives
	// mistaken is the code of the finding that the inputs NAME.mistake.yaml are refused
	// with before the first call.
	mistaken string
	// before makes what the job finds there, such as another stack.
	before func(b *bench)
	change []string // another input, and what that may do to resources
	may    string
	kept   int
	pace   float64 // at which it runs among all; 20 where it is 0
}

var wholeJobs = []wholeJob{
	{about: "a machine with three cards and two addresses", template: "survey-router", secrets: []string{"licence"}, mistaken: "input-value", change: []string{"tags={group: survey, ship: gannet}"}, may: "alter"},
	{about: "a pool that grows with queued work and shrinks to none", template: "model-queue", mistaken: "quota", change: []string{"users=[tam, wren, rook]"}, may: "alter"},
	{about: "a very large machine on a dedicated host", template: "season-model", region: "ember-coast", mistaken: "not-found", change: []string{"office=127.0.0.0/9"}, may: "alter"},
	{about: "a private cloud over two zones", template: "stretched-cloud", mistaken: "require", change: []string{"hosts=4"}, may: "alter", pace: 300},
	{about: "one machine from its maker's guide, set up and signed in to", template: "chart-desk", mistaken: "sizing", change: []string{"disk=96GiB"}, may: "alter"},
	{about: "a controller sized by a guide, with its rights", template: "gauge-controller", mistaken: "sizing", change: []string{"office=127.0.0.0/9"}, may: "alter"},
	{about: "a board with an administrator and query users", template: "query-board", mistaken: "require", change: []string{"more_users=[wren]"}, may: "alter"},
	{about: "a head and workers that heal themselves", template: "reading-workers", mistaken: "not-offered", change: []string{"workers=3", "heal=false"}, may: "alter"},
	{about: "a cluster from settings that are checked first", template: "cluster-bootstrap", mistaken: "not-offered", change: []string{"users=[ines, tam]"}, may: "alter"},
	{about: "a forecast in tiers over zones, replicated", template: "forecast-tiers", mistaken: "not-offered", change: []string{"nodes=3"}, may: "create alter"},
	{about: "an appliance with a licence key", template: "notice-appliance", secrets: []string{"licence"}, mistaken: "open-to-world", change: []string{"from=127.0.0.0/9"}, may: "alter"},
	{about: "services for a script, restored and proved", template: "station-services", mistaken: "name-taken", change: []string{"keep=30d"}, may: "alter"},
}

// row is what a job came to.
type row struct {
	resources, checks, left int
	took, expected          time.Duration
}

// TestWholeJobs does jobs end to end through the built client. It is what make jobs does,
// one after the other and at the pace of people; without being asked for, some of them are
// done at a high pace.
func TestWholeJobs(t *testing.T) {
	only := os.Getenv("UNDERSAIL_JOBS")
	if only == "" {
		t.Skip("make jobs does them")
	}
	t.Logf("%-34s %9s %9s %9s %6s %6s %s", "job", "resources", "time", "expected", "over", "checks", "left")
	for _, j := range wholeJobs {
		t.Run(j.template, func(t *testing.T) {
			pace := j.pace
			if pace == 0 {
				pace = 20
			}
			if faster, err := strconv.ParseFloat(os.Getenv("UNDERSAIL_PACE"), 64); err == nil {
				pace = max(pace, faster)
			}
			b := start(t, "--empty", "--pace", fmt.Sprint(pace))
			r := b.in(t).wholeJob(j, pace)
			t.Logf("%-34s %9d %9s %9s %6.2f %6d %d", j.template, r.resources, r.took.Round(time.Second), r.expected.Round(time.Second), r.took.Seconds()/r.expected.Seconds(), r.checks, r.left)
		})
	}
}

// wholeJob does one job.
func (b *bench) wholeJob(j wholeJob, pace float64) (out row) {
	t := b.t
	t.Helper()
	stack, region := "job-"+j.template, j.region
	if region == "" {
		region = "north-fell"
	}
	if j.before != nil {
		j.before(b)
	}
	args := func(inputs string) []string {
		list := []string{"propose", stack, "--template", j.template, "--account", "saltmere-lab", "--region", region, "--inputs", "examples/" + j.template + inputs, "-o", "json"}
		for _, name := range j.secrets {
			list = append(list, "--secret", name+"="+file(t, name, "Not-a-real-key-16"))
		}
		return list
	}
	if _, err := os.Stat(filepath.Join("..", "examples", j.template+".mistake.yaml")); err == nil || j.mistaken != "" {
		r := b.run(args(".mistake.yaml")...)
		var problem struct {
			Findings []struct{ Severity, Code, Place string }
		}
		json.Unmarshal([]byte(r.out), &problem)
		told := false
		for _, f := range problem.Findings {
			told = told || f.Code == j.mistaken && (f.Severity == "error" || f.Severity == "warning")
		}
		if !told || len(b.ledger(stack).Alive) > 0 {
			t.Errorf("the mistake is not told as %s: exit code %d\n%s%s", j.mistaken, r.code, r.out, r.err)
		}
	}
	var p struct {
		proposed
		Seconds float64
	}
	b.into(&p, args(".inputs.yaml")[:len(args(".inputs.yaml"))]...)
	began := time.Now()
	if r := b.must(0, "apply", b.accept(p.proposed), "--watch"); !strings.Contains(r.out, "is done: all") {
		t.Errorf("the end is not told:\n%s", r.out)
	}
	out.took, out.expected = time.Since(began), time.Duration(p.Seconds*float64(time.Second))
	var v verification
	b.into(&v, "verify", stack)
	for _, r := range v.Resources {
		out.checks += len(r.Evidence)
		if r.State != "healthy" {
			t.Errorf("verified: %s is %s: %+v", r.Name, r.State, r.Evidence)
		}
	}
	made := b.ledger(stack)
	out.resources = len(made.Alive)
	if len(j.change) > 0 {
		change := []string{"propose", stack}
		for _, input := range j.change {
			change = append(change, "--input", input)
		}
		var next struct {
			proposed
			Changes []struct{ Resource, Change string }
		}
		b.into(&next, change...)
		for _, c := range next.Changes {
			if c.Change != "same" && !strings.Contains(j.may, c.Change) {
				t.Errorf("the change would %s %s", c.Change, c.Resource)
			}
		}
		b.must(0, "apply", b.accept(next.proposed), "--watch")
		if b.into(&v, "verify", stack); !v.Healthy {
			t.Errorf("after the change: %+v", v)
		}
	}
	b.retire(stack)
	if out.left = len(b.ledger(stack).Alive) - j.kept; out.left != 0 {
		t.Errorf("%d are left: %+v", out.left, b.ledger(stack).Alive)
	}
	return out
}
