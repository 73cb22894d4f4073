package service_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"undersail/internal/await"
	"undersail/internal/core/state"
	"undersail/internal/service/servicetest"
	"undersail/sim/world"
)

const shared = `undersail: 1
about: {name: shared, version: 1.0.0, title: Shared}
inputs:
  port: {type: integer, default: 2049}
  size: {type: string, default: plain-1}
  files: {type: string, format: amount, default: 100GiB}
  optional: {type: boolean, default: true}
  note: {type: string, default: neap}
calc:
  mounts: '=[[files.address + ":" + files.path, "/shared", "nfs4", "_netdev,nofail"]]'
resources:
  net: {type: network, want: {range: 10.37.0.0/16}}
  near: {type: subnet, want: {network: =net.id, range: 10.37.0.0/24, zone: north-fell-a}}
  far: {type: subnet, want: {network: =net.id, range: 10.37.1.0/24, zone: north-fell-b}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  files_door: {type: firewall, want: {network: =net.id, rules: [{from: 10.37.0.0/16, port: =inputs.port}]}}
  access: {type: key_pair}
  files: {type: shared_files, want: {size: =inputs.files, subnets: [=near.id, =far.id], firewalls: [=files_door.id]}}
  data: {type: disk, want: {size: 10GiB, type: solid, zone: north-fell-a}}
  writer:
    type: instance
    want:
      {size: =inputs.size, image: debian-12, subnet: =near.id, public: true, key_pair: =access.id, firewalls: [=door.id], user_data: {mounts: =calc.mounts},
       disks: [{disk: =data.id, mount: /data, format: xfs, optional: =inputs.optional}]}
    health:
      - ssh: {host: =self.public_address, user: admin, key: =access.private_key, command: nproc; mountpoint /data, answer: is a mountpoint}
        within: 2m
  reader:
    type: instance
    want: {size: plain-1, image: debian-12, subnet: =far.id, public: true, key_pair: =access.id, firewalls: [=door.id], user_data: {mounts: =calc.mounts}}
  written:
    type: task
    want: {on: =writer.public_address, user: admin, key: =access.private_key, command: mountpoint /shared && tee /shared/tide, input: =inputs.note}
  read:
    type: task
    after: {written: healthy}
    want: {on: =reader.public_address, user: admin, key: =access.private_key, command: df /shared | tail -c +1 && cat /shared/tide, again_when: [=inputs.note]}
`

func TestMachinesShareFiles(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	run := r.Await(s, r.ApplySource(s, "shared", shared, nil))
	if run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	if got := servicetest.Attributes(t, s, "shared", "files")["places"]; fmt.Sprint(got) != "2" {
		t.Errorf("they can be mounted from %v of 2 places", got)
	}
	read := func() string { return servicetest.Attributes(t, s, "shared", "read")["output"].(string) }
	if got := read(); !strings.Contains(got, "nfs4 104857600 /shared") || !strings.Contains(got, "neap") {
		t.Errorf("the other machine read %q", got)
	}
	// They grow under the machines that have them, and what is in them stays.
	p := r.Propose(s, "shared", shared, map[string]any{"files": "200GiB", "note": "spring"})
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
		t.Fatal(run.State, run.Reason, p.Summary)
	}
	if got := read(); !strings.Contains(got, "spring") || p.Summary != "3 alter, 9 same" {
		t.Errorf("%s, and then the other machine read %q", p.Summary, got)
	}
	// A firewall that lets nobody in to them takes them away from the machines.
	p = r.Propose(s, "shared", shared, map[string]any{"files": "200GiB", "note": "ebb", "port": 2048})
	if run := r.Await(s, r.Carry(s, p)); run.State != state.Failed || !strings.Contains(run.Reason, "/shared") {
		t.Error(run.State, run.Reason)
	}
}

func TestAMachineStartsWithoutADiskThatItCanDoWithout(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	if run := r.Await(s, r.ApplySource(s, "shared", shared, nil)); run.State != state.Done {
		t.Fatal(run.State, run.Reason)
	}
	// Somebody starts it anew, with another size, while its disk is lost.
	r.Fault(world.Fault{Kind: "disk-fails", Label: "data", Count: -1})
	r.ByHand("PATCH", "shared-writer", map[string]any{"size": "plain-2"})
	got := ""
	await.Holds(func() bool {
		got = strings.Join(servicetest.Failing(t, s, r, "shared"), "; ")
		return strings.Contains(got, "2 /data is not a mountpoint")
	})
	if !strings.Contains(got, "2 /data is not a mountpoint") || !strings.Contains(got, "the disk failed") {
		t.Errorf("without a disk that it can do without: %s", got)
	}
}

const fetched = `undersail: 1
about: {name: fetched, version: 1.0.0, title: Fetched}
inputs: {rights: {type: array, items: {type: string}, default: [bucket.read]}}
resources:
  net: {type: network, want: {range: 10.46.0.0/16}}
  lan: {type: subnet, want: {network: =net.id, range: 10.46.0.0/24}}
  door: {type: firewall, want: {network: =net.id, rules: [{from: 127.0.0.0/8, port: 22}]}}
  access: {type: key_pair}
  reads: {type: role, want: {grants: [{may: =inputs.rights}]}}
  media: {type: bucket, want: {label: fetched-media, files: {charts/tide.txt: neap}}}
  reader: {type: instance, want: {size: plain-1, image: debian-12, subnet: =lan.id, public: true, key_pair: =access.id, firewalls: [=door.id], role: =reads.id}}
  read:
    type: task
    want:
      {on: =reader.public_address, user: admin, key: =access.private_key, again_when: [=inputs.rights],
       command: '="sleep 20; curl -fsS " + media.endpoint + "/charts/tide.txt; echo; curl -fsS " + media.endpoint + "/none || true"'}
`

// TestAMachineReadsObjectsByTheRightsOfItsRole fetches what was uploaded from a machine, and
// is refused once its role lets it no more.
func TestAMachineReadsObjectsByTheRightsOfItsRole(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 600)
	s, _ := r.Replica(5 * time.Second)
	for _, c := range []struct {
		rights []any
		want   string
	}{
		{[]any{"bucket.read"}, "neap\ncurl: (22) The requested URL returned error: 404"},
		{[]any{"disk.read"}, "curl: (22) The requested URL returned error: 403"},
		{[]any{"bucket.*"}, "neap"},
	} {
		run := r.Await(s, r.ApplySource(s, "fetched", fetched, map[string]any{"rights": c.rights}))
		if run.State != state.Done {
			t.Fatal(run.State, run.Reason)
		}
		got := fmt.Sprint(servicetest.Attributes(t, s, "fetched", "read")["output"])
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("with the rights %v it reads %q", c.rights, got)
		}
	}
}
