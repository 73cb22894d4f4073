package proposing_test

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
)

const pierSource = `undersail: 1
about: {name: pier, version: 1.0.0, title: Pier}
inputs:
  disks: {type: integer, minimum: 3, maximum: 8, default: 4}
  each: {type: string, format: amount, default: 10GiB}
calc:
  left: =usable("raid5", inputs.disks, inputs.each)
resources:
  data: {type: disk, repeat: =inputs.disks, want: {size: =inputs.each, type: solid}}
outputs:
  left: {value: =calc.left, about: What is usable}
`

// TestWhatIsUsableIsAnsweredWithTheDisks asks what a form would be told.
func TestWhatIsUsableIsAnsweredWithTheDisks(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	for disks, want := range map[int]string{4: "4x10 left 30", 6: "6x10 left 50"} {
		a, err := b.Service.Proposing.Check(context.Background(), b.Rig.Admin, proposing.Question{
			NewProposal: proposing.NewProposal{
				Stack:   "pier",
				File:    "pier.sail.yaml",
				Source:  pierSource,
				Account: "saltmere-lab",
				Region:  "north-fell",
				Inputs:  map[string]any{"disks": disks},
			},
		})
		if err != nil || len(a.Disks) != 1 || len(a.Usable) != 1 {
			t.Fatalf("%+v %+v %v", a.Disks, a.Usable, err)
		}
		got := fmt.Sprintf("%dx%d %s %d", a.Disks[0].Count, a.Disks[0].Bytes>>30, a.Usable[0].Name,
			a.Usable[0].Bytes>>30)
		if got != want {
			t.Errorf("%d disks: %s, want %s", disks, got, want)
		}
		if a.Disks[0].MBps <= 0 || a.Disks[0].Month <= 0 {
			t.Errorf("neither speed nor price: %+v", a.Disks[0])
		}
	}
}

// TestWhatStrayedIsToldUntilItIsPutRight looks at a stack that somebody altered by hand,
// and at its page later.
func TestWhatStrayedIsToldUntilItIsPutRight(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	source := servicetest.Source(servicetest.NetLine,
		"gate: {type: firewall, want: {network: =net.id, rules: [{from: 198.51.100.0/24, port: 443}]}}")
	b.Apply("coast", source)
	strayed := func() string {
		t.Helper()
		st, err := b.Service.Stacks.Show(ctx, "coast")
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, r := range st.Resources {
			for _, f := range r.Strayed {
				out = append(out, r.Name+" "+f.Name)
			}
		}
		return strings.Join(out, ", ")
	}
	verify := func() {
		t.Helper()
		if _, err := b.Service.Stacks.Verify(ctx, b.Rig.Admin, "coast"); err != nil {
			t.Fatal(err)
		}
	}
	verify()
	if got := strayed(); got != "" {
		t.Errorf("nothing was altered, and %s is told", got)
	}
	b.Rig.ByHand("PATCH", b.Alive("firewalls")[0], map[string]any{
		"inbound": []any{map[string]any{"source": "0.0.0.0/0", "port": 22}},
	})
	verify()
	if got := strayed(); got != "gate rules" {
		t.Errorf("altered is %q", got)
	}
	b.Apply("coast", source)
	if got := strayed(); got != "" {
		t.Errorf("it was put right, and %s is told", got)
	}
}

// TestThePriceOfAStackIsKnownFromStepToStep makes a stack dearer and cheaper.
func TestThePriceOfAStackIsKnownFromStepToStep(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	disks := func(sizes ...string) string {
		var lines []string
		for i, s := range sizes {
			lines = append(lines, fmt.Sprintf("d%d: {type: disk, want: {size: %s, type: solid}}", i, s))
		}
		return servicetest.Source(append(lines, servicetest.NetLine)...)
	}
	b.Apply("coast", disks("100GiB"))
	b.Apply("coast", disks("300GiB"))
	s, err := b.Service.Stacks.Cost(ctx, "coast")
	if err != nil || len(s.History) == 0 {
		t.Fatalf("%+v %v", s, err)
	}
	last := s.History[len(s.History)-1]
	if diff := last.Hour - s.Cost.Hour; diff > 1e-9 || diff < -1e-9 {
		t.Errorf("it costs %v in an hour, and its history ends with %v", s.Cost.Hour, last.Hour)
	}
	for i, h := range s.History {
		if h.Hour < 0 || i > 0 && !h.At.After(s.History[i-1].At) {
			t.Errorf("step %d: %+v after %+v", i, h, s.History[max(i-1, 0)])
		}
	}
}
