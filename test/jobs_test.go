package test

import (
	"cmp"
	"encoding/json"
	"fmt"
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// wholeJob is a job that practitioners do, by its example: from the mistake typical of it
// to nothing left.
type wholeJob struct {
	name     string // J01 to J21
	template string
	region   string   // north-fell where empty
	secrets  []string // inputs that somebody gives
	// mistaken is the code of the finding that the inputs NAME.mistake.yaml are told with
	// before the first call, or words of its refusal; in the region mistakenAt where it is
	// one of place.
	mistaken, mistakenAt string
	// before makes what the job finds there, such as another stack.
	before func(b *bench)
	change []string // another input, and what that may do to resources
	may    string
	// never is an input that is refused for what runs, with the code of its finding.
	never, neverCode string
	given            string // what the run waits for in the middle, as NAME=VALUE
	guarded          bool   // something of it has to be let go first
	kept             int
	pace             float64 // at which it is done; 20 where it is 0
	alone            bool    // only make jobs does it, or TestWholeJobs at a high pace
	asks             bool    // a check of it takes a secret where only its run can show
}

var wholeJobs = []wholeJob{
	{
		name:     "J01",
		template: "reading-workers",
		mistaken: "not-offered",
		change:   []string{"workers=3", "heal=false", "worker_size=plain-2"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J02",
		template: "field-app",
		mistaken: "not-offered",
		change:   []string{"team=127.0.0.0/9"},
		may:      "alter",
		guarded:  true,
	},
	{
		name:     "J03",
		template: "cluster-bootstrap",
		given:    "serial=SALT-42",
		mistaken: "not-offered",
		change:   []string{"users=[ines, tam]"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J04",
		template: "coast-tiers",
		mistaken: "no-way-out",
		change:   []string{"readers=[127.0.0.0/9]"},
		may:      "alter",
	},
	{
		name:     "J07",
		template: "stretched-cloud",
		mistaken: "require",
		change:   []string{"hosts=4"},
		may:      "alter",
		pace:     300,
		alone:    true,
		asks:     true,
	},
	{name: "J09", template: "station-extension", mistaken: "there is no stack", before: func(b *bench) {
		b.must(0, "apply", b.propose("intake-trial", "gauge-intake", "--inputs", "examples/gauge-intake.inputs.yaml",
			"--input", "range=10.99.0.0/20"), "--watch")
	}},
	{
		name:      "J10",
		template:  "chart-desk",
		mistaken:  "sizing",
		change:    []string{"disk=96GiB"},
		may:       "alter",
		never:     "disk=40GiB",
		neverCode: "shrink",
		alone:     true,
	},
	{
		name:     "J11",
		template: "gauge-controller",
		mistaken: "sizing",
		change:   []string{"office=127.0.0.0/9"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J12",
		template: "survey-router",
		secrets:  []string{"licence"},
		mistaken: "input-value",
		change:   []string{"tags={group: survey, ship: gannet}"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J13",
		template: "query-board",
		mistaken: "terms",
		change:   []string{"more_users=[wren]"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J14",
		template: "model-queue",
		mistaken: "quota",
		change:   []string{"users=[tam, wren, rook]"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J15",
		template: "reading-store",
		mistaken: "require",
		change:   []string{"forecasters=127.0.0.0/9"},
		may:      "alter",
	},
	{
		name:     "J16",
		template: "season-model",
		region:   "ember-coast",
		mistaken: "not-offered",
		change:   []string{"office=127.0.0.0/9"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J17",
		template: "station-services",
		mistaken: "name-taken",
		change:   []string{"keep=30d"},
		may:      "alter",
		alone:    true,
	},
	{
		name:     "J18",
		template: "forecast-tiers",
		mistaken: "not-offered",
		change:   []string{"nodes=3"},
		may:      "create alter",
		alone:    true,
	},
	{
		name:     "J19",
		template: "notice-appliance",
		secrets:  []string{"licence"},
		mistaken: "open-to-world",
		change:   []string{"from=127.0.0.0/9"},
		may:      "alter",
		alone:    true,
	},
	{
		name:       "J20",
		template:   "forecast-cluster",
		mistaken:   "not-supported",
		mistakenAt: "quarry-hill",
		change:     []string{"duty_office=127.0.0.0/9"},
		may:        "alter",
	},
	{
		name:      "J21",
		template:  "duty-desk",
		mistaken:  "sizing",
		change:    []string{"disk=12GiB"},
		may:       "alter rebuild",
		never:     "disk=4GiB",
		neverCode: "shrink",
		kept:      3,
	},
}

// inShort are the jobs that are done without being asked for, and the pace of the long one.
var inShort = map[string]float64{"J03": 120, "J17": 120}

// row is what a job came to.
type row struct {
	resources, checks, left int
	took, expected          time.Duration
}

// TestWholeJobs does jobs end to end through the built client. It is what make jobs does,
// one after the other and at the pace of people; without being asked for, some of them are
// done at a high pace.
func TestWholeJobs(t *testing.T) {
	t.Parallel()
	asked := os.Getenv("UNDERSAIL_JOBS") != ""
	faster, _ := strconv.ParseFloat(os.Getenv("UNDERSAIL_PACE"), 64)
	var mu sync.Mutex
	rows := []string{fmt.Sprintf("%-4s %-18s %9s %7s %9s %6s %6s  %s", "job", "example", "resources", "time",
		"expected", "over", "checks", "left over")}
	t.Cleanup(func() { t.Log("\n" + strings.Join(rows, "\n")) })
	for _, j := range wholeJobs {
		t.Run(j.name+" "+j.template, func(t *testing.T) {
			pace, short := inShort[j.name]
			if !asked && !short {
				t.Skip("make jobs does it")
			}
			if !asked {
				t.Parallel()
			} else if pace = max(j.pace, faster); pace == 0 {
				pace = 20
			}
			b := start(t, "--empty", "--pace", fmt.Sprint(pace))
			r := b.in(t).wholeJob(j)
			left := "none"
			if r.left != 0 {
				left = fmt.Sprint(r.left)
			}
			mu.Lock()
			defer mu.Unlock()
			rows = append(rows, fmt.Sprintf("%-4s %-18s %9d %6.0fs %8.0fs %6.2f %6d  %s", j.name, j.template,
				r.resources, r.took.Seconds(), r.expected.Seconds(), r.took.Seconds()/r.expected.Seconds(), r.checks,
				left))
		})
	}
}

// wholeJob does one job.
func (b *bench) wholeJob(j wholeJob) (out row) {
	t := b.t
	t.Helper()
	stack, region := "job-"+j.template, j.region
	if region == "" {
		region = "north-fell"
	}
	if j.before != nil {
		j.before(b)
	}
	template := j.template
	if template == "coast-tiers" {
		template = "examples/coast-tiers.sail.yaml" // from files, with what it embeds
	}
	args := func(inputs, region string) []string {
		list := []string{"propose", stack, "--template", template, "--account", "saltmere-lab", "--region", region,
			"--inputs", "examples/" + j.template + inputs}
		for _, name := range j.secrets {
			list = append(list, "--secret", name+"="+file(t, name, "Not-a-real-key-16"))
		}
		return list
	}
	told := func(code string, args ...string) bool {
		r := b.run(append(args, "-o", "json")...)
		var problem struct {
			Findings []struct{ Severity, Code, Place string }
		}
		json.Unmarshal([]byte(r.out), &problem)
		for _, f := range problem.Findings {
			if f.Code == code && f.Severity != "note" {
				return true
			}
		}
		if strings.Contains(r.err, code) {
			return true
		}
		t.Logf("exit code %d\n%s", r.code, r.err)
		return false
	}
	if !told(j.mistaken, args(".mistake.yaml", cmp.Or(j.mistakenAt, region))...) || len(b.ledger(stack).Alive) > 0 {
		t.Errorf("the mistake is not told as %s before the first call", j.mistaken)
	}
	var p struct {
		proposed
		Seconds float64
	}
	b.into(&p, args(".inputs.yaml", region)...)
	began := time.Now()
	apply := []string{"apply", b.accept(p.proposed), "--watch"}
	if j.given != "" {
		name, _, _ := strings.Cut(j.given, "=")
		r := b.must(6, apply...)
		if !strings.Contains(r.out+r.err, "undersail continue "+stack+" --input "+name+"=VALUE") {
			t.Errorf("what the run waits for is not told:\n%s%s", r.out, r.err)
		}
		apply = []string{"continue", stack, "--input", j.given, "--watch"}
	}
	if j.asks {
		b.must(6, apply...)
		var asked proposed
		if err := json.Unmarshal([]byte(b.must(6, "continue", stack, "-o", "json").out), &asked); err != nil {
			t.Fatal(err)
		}
		b.accept(asked)
		var runs []struct{ ID int64 }
		b.reads("/api/v1/runs?stack="+stack, &runs)
		apply = []string{"watch", fmt.Sprint(runs[0].ID)}
	}
	if r := b.must(0, apply...); !strings.Contains(r.out, "is done: all") {
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
	if j.never != "" && !told(j.neverCode, "propose", stack, "--input", j.never) {
		t.Errorf("%s is not refused as %s", j.never, j.neverCode)
	}
	if j.guarded {
		b.takeGuardAway(stack)
	}
	b.retire(stack)
	var all ledger // what machines made by themselves carries no mark of ours
	if r := b.program("simcloud", "", "ledger", "-o", "json"); json.Unmarshal([]byte(r.out), &all) != nil {
		t.Fatal(r.out, r.err)
	}
	out.left = -j.kept
	for _, x := range all.Alive {
		if of := x.Tags["undersail-stack"]; of == "" || of == stack {
			out.left++
		}
	}
	if out.left != 0 {
		t.Errorf("%d are left: %+v", out.left, all.Alive)
	}
	return out
}
