package proposing_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

// TestUndoingATakingOverGivesItBack, also where the template would not keep it.
func TestUndoingATakingOverGivesItBack(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	disk := b.Alive("disks")[0]
	b.Apply("coast", servicetest.Source(servicetest.NetLine)) // the disk is kept
	taken := b.Apply("coast",
		servicetest.Source(servicetest.NetLine, strings.Replace(servicetest.DiskLine, ", at_retire: keep", "", 1)))
	p, err := b.Service.Proposing.Undo(ctx, b.Rig.Admin, taken.ID)
	if err != nil || servicetest.Changes(p) != "keep data" || len(p.Consents) != 0 {
		t.Fatalf("%s %v %v", servicetest.Changes(p), p.Consents, err)
	}
	if run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if kept, _ := b.Service.Proposing.Kept(ctx); len(kept) != 1 || kept[0].ID != disk || len(b.Alive("disks")) != 1 {
		t.Errorf("kept are %v, alive %v", kept, b.Alive("disks"))
	}
}

// TestUndoingKeepsWhatWasGivenLater: the way back is to the stack with the values that its run
// was given in its middle.
func TestUndoingKeepsWhatWasGivenLater(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 1200)
	s, _ := r.Replica(5e9)
	ctx := context.Background()
	source := strings.Replace(serialised, "  berths: {type: integer, minimum: 1, maximum: 4, later: true}\n",
		"  note: {type: string, default: a}\n", 1)
	source = strings.Replace(source, "back: {type: address, want: {tags: {berths: =string(inputs.berths)}}",
		"back: {type: address, want: {tags: {note: =inputs.note}}", 1)
	first := r.ApplySource(s, "serialised", source, nil)
	if run := r.Await(s, first); run.State != state.Parked {
		t.Fatal(run.State, run.Reason)
	}
	if _, err := s.Proposing.Give(ctx, r.Admin, "serialised", map[string]any{"serial": "SALT-7"}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, first); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	second := r.Await(s, r.ApplySource(s, "serialised", source, map[string]any{"note": "b"}))
	p, err := s.Proposing.Undo(ctx, r.Admin, second.ID)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatalf("undoing is %s: %s", run.State, run.Reason)
	}
	st, err := s.Stacks.Show(ctx, "serialised")
	if err != nil {
		t.Fatal(err)
	}
	for _, in := range st.Inputs {
		if in.Name == "serial" && in.Value != "SALT-7" {
			t.Errorf("the serial number is %v", in.Value)
		}
	}
	if again := r.Propose(s, "serialised", source, nil); again.State != "nothing" {
		t.Errorf("it is not what it was: %s", again.Summary)
	}
}

// TestAGuardOfWhatAFailedRunMadeDoesNotStandInItsWayBack: nobody relied on it yet.
func TestAGuardOfWhatAFailedRunMadeDoesNotStandInItsWayBack(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	b.Rig.Fault(world.Fault{Kind: "denied", On: "addresses", Label: "coast-", Count: 1})
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "at_retire: keep", "guard: true", 1),
		"front: {type: address, after: {data: healthy}}"))
	run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p))
	if run.State != state.Failed {
		t.Fatal(run.State, run.Reason)
	}
	back, err := b.Service.Proposing.Undo(ctx, b.Rig.Admin, run.ID)
	if err != nil || servicetest.Changes(back) != "remove data" || len(back.Consents) != 0 {
		t.Fatalf("%s %v %v", servicetest.Changes(back), back.Consents, err)
	}
	run = b.Rig.Await(b.Service, b.Rig.Carry(b.Service, back))
	if run.State != state.Done || len(b.Alive("disks")) != 0 {
		t.Errorf("%s %s, alive are %v", run.State, run.Reason, b.Alive("disks"))
	}
}

// TestUndoingARenameLeavesTheThingAlone: it gets its name back, with what it holds.
func TestUndoingARenameLeavesTheThingAlone(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	disk := b.Alive("disks")[0]
	renamed := strings.NewReplacer("data: {", "store: {was: data, ", ", at_retire: keep",
		"").Replace(servicetest.DiskLine)
	run := b.Apply("coast", servicetest.Source(servicetest.NetLine, renamed))
	p, err := b.Service.Proposing.Undo(ctx, b.Rig.Admin, run.ID)
	if err != nil || servicetest.Changes(p) != "alter data" || len(p.Consents) != 0 {
		t.Fatalf("%s %v %v", servicetest.Changes(p), p.Consents, err)
	}
	if run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if now := b.Alive("disks"); len(now) != 1 || now[0] != disk {
		t.Errorf("alive are %v, and it was %s", now, disk)
	}
	again := b.Propose("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	if again.State != "nothing" {
		t.Errorf("it is not what it was: %s", servicetest.Changes(again))
	}
}

// TestWhatAnUndoingCannotPutBackIsPaidFor: a disk that grew stays as large, and costs what it did.
func TestWhatAnUndoingCannotPutBackIsPaidFor(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	run := b.Apply("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "20GiB", "40GiB", 1)))
	p, err := b.Service.Proposing.Undo(context.Background(), b.Rig.Admin, run.ID)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	if !slices.ContainsFunc(p.Findings,
		func(f render.Finding) bool { return f.Code == "not-put-back" && f.Place == "data.size" }) ||
		p.Cost.Hour != p.CostNow.Hour || p.Cost.Hour == 0 {
		t.Errorf("it would cost %v, and costs %v: %v", p.Cost.Hour, p.CostNow.Hour, p.Findings)
	}
}

// TestUndoingGoesBackToWhatWasWhole: a run that went on from one that failed has nothing whole
// before it but what was there before both.
func TestUndoingGoesBackToWhatWasWhole(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	ctx := context.Background()
	b.Apply("coast", servicetest.Source(servicetest.NetLine))
	b.Rig.Fault(world.Fault{Kind: "denied", On: "addresses", Label: "coast-", Count: -1})
	p := b.Propose("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "at_retire: keep, ", "", 1),
		"front: {type: address, after: {data: healthy}}"))
	for range 2 { // it fails, and goes on, and fails again
		if run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, p)); run.State != state.Failed {
			t.Fatal(run.State, run.Reason)
		}
		var err error
		if p, err = b.Service.Proposing.Continue(ctx, b.Rig.Admin, "coast"); err != nil {
			t.Fatal(servicetest.Explain(err))
		}
	}
	runs, err := b.Service.Stacks.Runs(ctx, "coast", 0, 1)
	if err != nil {
		t.Fatal(err)
	}
	back, err := b.Service.Proposing.Undo(ctx, b.Rig.Admin, runs[0].ID)
	// somebody may rely on what the first one made
	if err != nil || servicetest.Changes(back) != "remove data" ||
		!slices.Equal(servicetest.ConsentNames(back), []string{"lose-data"}) {
		t.Fatalf("%s %v %v", servicetest.Changes(back), back.Consents, err)
	}
	told := slices.ContainsFunc(back.Findings, func(f render.Finding) bool { return f.Code == "undone-too" })
	if !told {
		t.Errorf("nothing tells that the run before it goes too: %v", back.Findings)
	}
	run := b.Rig.Await(b.Service, b.Rig.Carry(b.Service, back))
	if run.State != state.Done || len(b.Alive("disks")) != 0 {
		t.Errorf("%s %s, alive are %v", run.State, run.Reason, b.Alive("disks"))
	}
}

// TestUndoingTellsOfWhatARebuildKept: what held the data is kept, and what comes back is empty.
func TestUndoingTellsOfWhatARebuildKept(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	b.Apply("coast", servicetest.Source(servicetest.NetLine, servicetest.DiskLine))
	disk := b.Alive("disks")[0]
	run := b.Apply("coast", servicetest.Source(servicetest.NetLine,
		strings.Replace(servicetest.DiskLine, "type: solid", "type: solid-plus", 1)))
	p, err := b.Service.Proposing.Undo(context.Background(), b.Rig.Admin, run.ID)
	if err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	i := slices.IndexFunc(p.Findings,
		func(f render.Finding) bool { return f.Code == "not-put-back" && f.Place == "data" })
	if i < 0 || !strings.Contains(p.Findings[i].Message, disk) {
		t.Errorf("%s, and nothing tells of %s: %v", servicetest.Changes(p), disk, p.Findings)
	}
}
