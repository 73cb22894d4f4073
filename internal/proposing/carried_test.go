package proposing_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"undersail/internal/core/render"
	"undersail/internal/core/state"
	"undersail/internal/core/use"
	"undersail/internal/people"
	"undersail/internal/proposing"
	"undersail/internal/refusal"
	"undersail/internal/service/servicetest"
)

const reads = `undersail: 1
about: {name: reads, version: 1.0.0, title: Reads}
inputs: {word: {secret: true, generate: true}}
resources:
  net: {type: network, want: {range: 10.37.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.37.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  data: {type: disk, at_retire: keep, want: {size: 10GiB, type: solid}}
  host: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: ["=door.id"], disks: [{disk: =data.id, mount: /data, format: xfs}], GIVEN}}
  TASK
`

// TestAKeptDiskCarriesWhatItsMachineWasGiven: whoever attaches the disk to a machine of theirs
// reads the secret there, so that is a use of it, by whatever way the disk got there.
func TestAKeptDiskCarriesWhatItsMachineWasGiven(t *testing.T) {
	t.Parallel()
	const byFirstBoot = `user_data: {write_files: [{path: /data/word, content: =inputs.word}]}`
	const byCommand = `word: {type: task, want: {on: =host.public_address, user: admin, key: =access.private_key, command: '="echo " + inputs.word + " > /data/word"'}, after: {host: healthy}}`
	for name, c := range map[string]struct{ given, task string }{
		"by its first boot": {byFirstBoot, ""},
		"by a command":      {"tags: {a: b}", byCommand},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			r := servicetest.New(t, 600)
			s, _ := r.Replica(0)
			ctx := context.Background()
			source := servicetest.Patient(strings.NewReplacer("GIVEN", c.given, "TASK", c.task).Replace(reads))
			if run := r.Await(s, r.ApplySource(s, "gauge", source, nil)); run.State != state.Done {
				t.Fatal(run.State, run.Reason)
			}
			// What was agreed to stays so: the disk of one's own machine carries nothing new.
			again := r.Propose(s, "gauge", strings.Replace(source, "10GiB", "11GiB", 1), nil)
			if slices.Contains(servicetest.ConsentNames(again), "secret-use") || len(again.Uses) == 0 {
				t.Errorf("proposed again: %v", again.Consents)
			} else if slices.ContainsFunc(again.Findings,
				func(f render.Finding) bool { return f.Code == "uses-recorded" }) {
				t.Errorf("what was listed is told to have been recorded before: %v", again.Findings)
			}
			retire, err := s.Proposing.Retire(ctx, r.Admin, "gauge")
			if err != nil {
				t.Fatal(err)
			}
			if run := r.Await(s, r.Carry(s, retire)); run.State != state.Done {
				t.Fatal(run.State, run.Reason)
			}
			operator := people.User{Name: "oda", Roles: []string{"operator"}}
			plain := servicetest.Patient(strings.NewReplacer("GIVEN", "tags: {a: b}", "TASK", "",
				"secret: true, generate: true", "type: string, default: a").Replace(reads))
			carries := func(what, stack string) {
				t.Helper()
				p, err := s.Proposing.Propose(ctx, operator, proposing.NewProposal{
					Stack:   stack,
					File:    "own.sail.yaml",
					Source:  plain,
					Account: "saltmere-lab",
					Region:  "north-fell",
				})
				if err != nil {
					t.Fatal(servicetest.Explain(err))
				}
				at := slices.IndexFunc(p.Uses,
					func(u use.Use) bool { return u.For == use.People && strings.HasPrefix(u.At, "host") })
				if at < 0 || !slices.Equal(p.Uses[at].Secrets, []string{"gauge/word@1"}) ||
					!slices.Contains(servicetest.ConsentNames(p), "secret-use") {
					t.Fatalf("%s: signing in to the machine is no use of what the disk carries: %v %v", what, p.Uses,
						p.Consents)
				}
				_, err = s.Proposing.Accept(ctx, operator, p.ID, servicetest.ConsentNames(p), "")
				if servicetest.Kind(err) != refusal.Forbidden ||
					!strings.Contains(err.Error(), "only somebody who may read gauge/word@1") {
					t.Errorf("%s, accepted by an operator who may not read it: %v", what, err)
				}
			}
			carries("taken over", "gauge")
			kept, err := s.Proposing.Kept(ctx)
			if err != nil || len(kept) != 1 || !slices.Equal(kept[0].Carries, []string{"gauge/word@1"}) {
				t.Errorf("what is kept: %+v %v", kept, err)
			}
			own := plain
			plain = strings.Replace(plain,
				"{type: disk, patience: 99h, at_retire: keep, want: {size: 10GiB, type: solid}}",
				"{type: disk, find: {name: "+kept[0].Stack+"-"+kept[0].Resource+"}}", 1)
			carries("found by its id", "finder")
			plain = strings.Replace(own, "disk: =data.id", "disk: "+kept[0].ID, 1)
			carries("named by its id", "namer")
			plain = own
			if _, err := s.Proposing.MoveKept(ctx, r.Admin, "gauge/data", "other/data"); err != nil {
				t.Fatal(err)
			}
			carries("moved to another stack", "other")
		})
	}
}
