package main

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"undersail/internal/core/state"
	"undersail/internal/daemon"
	"undersail/internal/engine"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/proposing"
	"undersail/internal/service"
	"undersail/internal/service/servicetest"
	"undersail/internal/stacks"
	"undersail/sim"
	"undersail/sim/world"
)

// loaded lets replicas make stacks while one of them is frozen, one killed, one has
// a key that is not the right one any more, the database goes away, and the cloud refuses, loses answers and
// ends the credentials.
func (h *harness) loaded(replicas, stacks int, pause time.Duration) int {
	r := servicetest.NewWith(h, sim.Config{
		Pace:   20,
		Quotas: map[string]int64{"networks": 1000, "disk_gib": 1_000_000, "vcpus": 2000},
	})
	author, end := r.Still(engine.Config{}, nil)
	h.Cleanup(end)
	say("%d replicas under load: %d stacks", replicas, stacks)
	var proposals []proposing.Proposal
	for i := range stacks {
		proposals = append(proposals,
			r.Propose(author, name(i), coast, map[string]any{"range": fmt.Sprintf("10.%d.%d.0/24", replicas, i)}))
	}
	var all []*replica
	for range replicas {
		all = append(all, h.replica(r, r.KeyFile))
	}
	// One replica has a key of its own that is the old one by the time that the runs begin: one
	// with a wrong key from the start does not start.
	oldKey := filepath.Join(h.TempDir(), "key")
	key, err := os.ReadFile(r.KeyFile)
	if err == nil {
		err = os.WriteFile(oldKey, key, 0o600)
	}
	if err != nil {
		panic(err)
	}
	stranger := h.replica(r, oldKey)
	sealed, _, err := daemon.RotateKey(context.Background(), daemon.Place{
		DatabaseURL: r.DatabaseURL,
		KeyFile:     r.KeyFile,
	})
	if err != nil {
		panic(err)
	}
	say("the key is another one, %d values are sealed with it, and one replica has the old one", sealed)
	for _, on := range []string{"networks", "disks", "instances"} {
		r.Fault(world.Fault{Kind: "lose-answer", On: on, Method: http.MethodPut, Count: stacks / 4})
	}
	say("answers to creations are lost")
	var runs []int64
	for _, p := range proposals {
		runs = append(runs, r.Carry(author, p))
	}
	time.Sleep(2 * time.Second)
	say("one replica is frozen for %s", pause)
	frozen := all[0]
	frozen.signal(syscall.SIGSTOP)
	thawed := time.Now().Add(pause)
	r.Fault(world.Fault{Kind: "throttle", Count: 60, Seconds: 1})
	say("calls are refused in storms")
	time.Sleep(3 * time.Second)
	say("the credentials end for 5 s")
	r.Fault(world.Fault{Kind: "credentials-end", Count: -1})
	time.Sleep(5 * time.Second)
	r.Lift()
	r.Renew(author)
	if replicas > 2 {
		say("another replica is killed, and a new one comes")
		all[1].kill()
		all[1] = h.replica(r, r.KeyFile)
	}
	say("the database is away for %s", pause)
	if err := postgrestest.Away(pause); err != nil {
		panic(err)
	}
	time.Sleep(max(0, time.Until(thawed)))
	frozen.signal(syscall.SIGCONT)
	say("the database is back, the frozen replica goes on")
	time.Sleep(2 * time.Second)
	if replicas == 2 {
		say("a replica is killed, and a new one comes")
		all[1].kill()
		all[1] = h.replica(r, r.KeyFile)
	}
	bad := 0
	states := map[string]int{}
	for i, id := range runs {
		run := h.finished(r, author, id)
		states[run.State]++
		differences := r.Differences(author, name(i), false)
		if run.State != state.Done {
			differences = append(differences, fmt.Sprintf("run %d ended %s: %s", id, run.State, run.Reason))
		}
		bad += len(differences)
		if len(differences) > 0 {
			verdict(name(i), differences)
		}
	}
	made, l := map[string]int{}, r.Ledger()
	for _, x := range append(l.Alive, l.Gone...) {
		made[x.Tags["undersail-stack"]+" "+x.Tags["undersail-resource"]]++
	}
	twice := 0
	for _, n := range made {
		if n > 1 {
			twice++
		}
	}
	refused, lost := 0, 0
	for _, c := range l.Calls {
		if c.Status == http.StatusTooManyRequests {
			refused++
		}
		if c.Fault == "lose-answer" {
			lost++
		}
	}
	declined := strings.Count(stranger.log(), "this replica gives a run away")
	for _, p := range append(all, stranger) {
		p.kill()
	}
	say("%d replicas: %d stacks, runs ended %v, %d resources, %d calls (%d refused, %d answers lost), %d made "+
		"twice, %d given away by the replica with the old key, %d differences", replicas, stacks, states, len(made),
		len(l.Calls), refused, lost, twice, declined, bad)
	return bad + twice
}

func name(i int) string { return fmt.Sprintf("load-%03d", i) }

// finished waits for the end of a run for as long as anything may take.
func (h *harness) finished(r *servicetest.Rig, s *service.Service, id int64) stacks.Run {
	ctx := context.Background()
	for deadline := time.Now().Add(5 * time.Minute); ; time.Sleep(100 * time.Millisecond) {
		run, err := s.Stacks.RunRow(ctx, id)
		if err == nil && run.EndedAt != nil {
			return run
		}
		if err == nil && run.State == state.Parked && strings.Contains(run.Reason, "credentials") {
			r.Renew(s)
		}
		if time.Now().After(deadline) {
			if err != nil {
				panic(err)
			}
			return run
		}
	}
}
