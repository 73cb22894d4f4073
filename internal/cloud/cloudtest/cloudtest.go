// Package cloudtest is the conformance suite that every adapter passes
// unchanged. An adapter's test gives it a [Place] to work in and ways to make
// the cloud misbehave.
package cloudtest

import (
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"

	"undersail/internal/cloud"
	"undersail/internal/core/change"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// Run checks that an adapter keeps its promises.
func Run(t *testing.T, open func(t *testing.T) Place) {
	for name, check := range map[string]func(*testing.T, Place){
		"WhoAmI": whoAmI, "Offers": offersTell, "Lifecycle": lifecycle, "PartsAreIntendedBeforeTheyAreMade": intended,
		"NoIntentNoCall": noIntent, "WhatIsSeenIsTakenUp": takenUp,
		"LostAnswerIsUnknownAndFound": lostAnswer, "ServerErrorIsTransient": serverError,
		"ThrottlingSaysWhen": throttling, "InUse": inUse, "Invalid": invalid, "Absent": absent,
		"SignIn": signIn, "Search": search, "ShrinkingIsRefused": shrinking, "Tags": tags, "AlterTakesAway": takesAway,
		"StaleVersionIsAConflict": conflict,
		"GrowingWithinTheQuota":   growing, "Refusals": refusals, "Concurrency": concurrency,
		"RemovingTwice": removingTwice, "EveryType": everyType,
	} {
		t.Run(name, func(t *testing.T) {
			p := open(t)
			if !p.Alone {
				t.Parallel()
			}
			check(t, p)
		})
	}
}

func whoAmI(t *testing.T, p Place) {
	me, err := p.Adapter.WhoAmI(ctx(t))
	if err != nil || me.Account == "" || me.ClockRate <= 0 || len(me.Regions) == 0 {
		t.Errorf("%+v, %v", me, err)
	}
}

func offersTell(t *testing.T, p Place) {
	o, err := p.Adapter.Offers(ctx(t), p.Region)
	if err != nil {
		t.Fatal(err)
	}
	size, ok := o.Size(p.Size)
	if !ok || size.VCPUs == 0 || size.MemoryBytes == 0 || size.Hour > 0 != p.Priced || len(size.Zones) == 0 {
		t.Errorf("size %+v", size)
	}
	if len(o.Zones) < 2 || len(o.DiskTypes) == 0 || len(o.Images) == 0 || o.Quotas["vcpus"].Limit == 0 ||
		o.Currency != "" != p.Priced {
		t.Errorf("offers %+v", o)
	}
}

func lifecycle(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-life-net", map[string]any{"range": "10.1.0.0/16"})
	subnet := p.ready(t, "subnet", "us-life-sub", map[string]any{"network": network.ID, "range": "10.1.0.0/24"})
	rules := p.ready(t, "firewall", "us-life-fw", map[string]any{
		"network": network.ID,
		"rules":   []any{map[string]any{"from": "127.0.0.0/8", "port": int64(22)}},
	})
	disk := p.ready(t, "disk", "us-life-disk", map[string]any{"size": "20GiB", "type": p.DiskType})
	machine := p.ready(t, "instance", "us-life-vm", map[string]any{
		"size":      p.Size,
		"image":     p.Image,
		"subnet":    subnet.ID,
		"public":    true,
		"firewalls": []any{rules.ID},
		"disks":     []any{map[string]any{"disk": disk.ID, "mount": "/data"}},
		"user_data": map[string]any{"packages": []any{"nginx"}},
	})
	for _, name := range append([]string{"id", "private_address", "public_address", "reach", "vcpus", "memory"},
		p.Tells...) {
		if v := machine.Attributes[name]; v == nil || v == "" {
			t.Errorf("a ready machine reports no %s", name)
		}
	}
	for name, want := range map[string]any{"size": p.Size, "image": p.Image, "subnet": subnet.ID, "public": true} {
		if machine.Has[name] != want {
			t.Errorf("a machine made with %s %v has %v", name, want, machine.Has[name])
		}
	}
	grown := p.alter(t, cloud.Task{Ref: disk.Ref, Want: map[string]any{"size": "30GiB"}})
	if grown.Attributes["size"] != "30GiB" || grown.Has["size"] != "30GiB" {
		t.Errorf("the disk reports %v and has %v after growing", grown.Attributes["size"], grown.Has["size"])
	}
	// Disks come and go while it runs.
	further := p.ready(t, "disk", "us-life-logs", map[string]any{"size": "20GiB", "type": p.DiskType})
	both := []any{map[string]any{"disk": disk.ID, "mount": "/data"}, map[string]any{"disk": further.ID}}
	for _, disks := range [][]any{both, both[:1], both, both[1:], {}} {
		now := p.alter(t, cloud.Task{Ref: machine.Ref, Want: map[string]any{"disks": disks}})
		has, _ := now.Has["disks"].([]any)
		if len(has) != len(disks) || len(disks) > 0 && !change.Holds("instance", "disks", disks, has) ||
			now.ID != machine.ID {
			t.Errorf("wanted are the disks %v, and it has %v", disks, has)
		}
		machine = now
	}
	for _, l := range []cloud.Live{machine, disk, further, rules, subnet, network} {
		p.removed(t, l.Ref)
	}
}

// intended: every part that a cloud tells of was intended before, by its mark.
func intended(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-parts", map[string]any{"range": "10.2.0.0/16"})
	ref, err := p.drive(ctx(t),
		p.create("subnet", "us-parts-sub", map[string]any{"network": network.ID, "range": "10.2.0.0/24"}))
	if err != nil || len(ref.Parts) == 0 {
		t.Fatal(ref, err)
	}
	live := p.await(t, ref)
	for _, part := range live.Parts {
		if ref.Part(part.Kind, part.Mark) == nil || !part.Seen || part.ID == "" {
			t.Errorf("part %+v was not intended; intended were %+v", part, ref.Parts)
		}
	}
}

func noIntent(t *testing.T, p Place) {
	refused := errors.New("the intent could not be committed")
	_, err := p.Adapter.Step(ctx(t), p.create("network", "us-unintended", map[string]any{"range": "10.2.0.0/16"}),
		func(cloud.Part) error { return refused })
	if !errors.Is(err, refused) || p.Made("us-unintended") != 0 {
		t.Errorf("without an intent it gave %v and made %d", err, p.Made("us-unintended"))
	}
}

// takenUp: a creation whose parts are all seen makes nothing more.
func takenUp(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-seen", map[string]any{"range": "10.2.0.0/16"})
	again := p.create("network", "us-seen", map[string]any{"range": "10.2.0.0/16"})
	again.Ref = network.Ref
	progress, err := p.Adapter.Step(ctx(t), again, func(cloud.Part) error { return errors.New("a part is made again") })
	if err != nil || progress.More || progress.Live.ID != network.ID || p.Made("us-seen") != 1 {
		t.Errorf("%+v, %v; made %d times", progress, err, p.Made("us-seen"))
	}
}

func lostAnswer(t *testing.T, p Place) {
	p.Fault("lose-answer")
	ref, err := p.drive(ctx(t), p.create("network", "us-lost", map[string]any{"range": "10.3.0.0/16"}))
	wantClass(t, err, cloud.UnknownOutcome)
	if !ref.Unsure() {
		t.Errorf("nothing says that the outcome is unknown: %+v", ref.Parts)
	}
	live, there, err := p.Adapter.Look(ctx(t), ref)
	if err != nil || there != cloud.Present || live.ID == "" {
		t.Errorf("what was made without an answer is not found by its mark: %s %v", there, err)
	}
}

func serverError(t *testing.T, p Place) {
	p.Fault("server-error")
	_, err := p.drive(ctx(t), p.create("network", "us-503", map[string]any{"range": "10.4.0.0/16"}))
	wantClass(t, err, cloud.Transient)
	if p.Made("us-503") != 0 {
		t.Error("a refused call was carried out")
	}
}

func throttling(t *testing.T, p Place) {
	p.Fault("throttle")
	_, err := p.drive(ctx(t), p.create("network", "us-429", map[string]any{"range": "10.5.0.0/16"}))
	if e := wantClass(t, err, cloud.Throttled); e.RetryAfter <= 0 {
		t.Error("throttling does not say when to come back")
	}
}

func inUse(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-used-net", map[string]any{"range": "10.6.0.0/16"})
	p.ready(t, "subnet", "us-used-sub", map[string]any{"network": network.ID, "range": "10.6.0.0/24"})
	_, err := p.drive(ctx(t), cloud.Task{Action: cloud.Remove, Ref: network.Ref})
	wantClass(t, err, cloud.InUse)
}

func invalid(t *testing.T, p Place) {
	_, err := p.drive(ctx(t), p.create("network", "us-bad", map[string]any{"range": "10.0.0.1/16"}))
	if e := wantClass(t, err, cloud.Invalid); e.Property != "range" {
		t.Errorf("the error is about %q, not about range", e.Property)
	}
}

func absent(t *testing.T, p Place) {
	if _, there, err := p.Adapter.Look(ctx(t), p.ref("network", "us-never")); err != nil || there != cloud.Absent {
		t.Errorf("what was never made is %q, %v", there, err)
	}
	if p.Adapter.Visibility() < 0 {
		t.Error("a visibility below nothing")
	}
}

// growing alters what is there beyond its quota, which a cloud refuses as it refuses
// to make that much.
func growing(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-grow-net", map[string]any{"range": "10.1.0.0/16"})
	subnet := p.ready(t, "subnet", "us-grow-sub", map[string]any{"network": network.ID, "range": "10.1.0.0/24"})
	machine := p.ready(t, "instance", "us-grow-vm", map[string]any{
		"size":   p.Size,
		"image":  p.Image,
		"subnet": subnet.ID,
	})
	offers, err := p.Adapter.Offers(ctx(t), p.Region)
	if err != nil {
		t.Fatal(err)
	}
	now, _ := offers.Size(p.Size)
	larger := slices.IndexFunc(offers.Sizes, func(s offer.Size) bool {
		return s.VCPUs > now.VCPUs && s.Architecture == now.Architecture && !s.Withdrawn &&
			slices.Contains(s.Zones, offers.Zones[0])
	})
	p.Refuse(cloud.Quota)
	_, err = p.drive(ctx(t), cloud.Task{
		Action: cloud.Alter,
		Ref:    machine.Ref,
		Want:   map[string]any{"size": offers.Sizes[larger].Name},
	})
	wantClass(t, err, cloud.Quota)
}

func removingTwice(t *testing.T, p Place) {
	if _, err := p.drive(ctx(t), cloud.Task{Action: cloud.Remove, Ref: p.ref("network", "us-never")}); err != nil {
		t.Errorf("removing what was never there: %v", err)
	}
	network := p.ready(t, "network", "us-twice", map[string]any{"range": "10.2.0.0/16"})
	p.removed(t, network.Ref)
	p.removed(t, network.Ref)
}

func signIn(t *testing.T, p Place) {
	_, err := p.Stranger.WhoAmI(ctx(t))
	wantClass(t, err, cloud.SignIn)
}

func search(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-list-net", map[string]any{"range": "10.7.0.0/16"})
	subnet := p.ready(t, "subnet", "us-list-lan", map[string]any{"network": network.ID, "range": "10.7.1.0/24"})
	for i := range 60 { // more than one page
		_, err := p.drive(ctx(t),
			p.create("key_pair", "us-list-"+string(rune('a'+i/26))+string(rune('a'+i%26)), map[string]any{
				"public_key": publicKey,
			}))
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		about string
		query cloud.Query
		want  int
	}{
		{"by tag", cloud.Query{Tags: map[string]string{cloud.TagStack: "cloudtest"}}, 62},
		{"by tag and type", cloud.Query{
			Type: resource.TypeNetwork,
			Tags: map[string]string{cloud.TagStack: "cloudtest"},
		}, 1},
		{"by two tags", cloud.Query{
			Tags: map[string]string{cloud.TagStack: "cloudtest", cloud.TagResource: "us-list-aa"},
		}, 1},
		{"by another tag", cloud.Query{Tags: map[string]string{cloud.TagStack: "other"}}, 0},
		{"by id", cloud.Query{Type: resource.TypeNetwork, ID: network.ID}, 1},
		{"by name", cloud.Query{Type: resource.TypeKeyPair, Name: "us-list-ab"}, 1},
		{"by what it uses", cloud.Query{Uses: []string{"net-none", network.ID}}, 1},
		{"by what nobody uses", cloud.Query{Uses: []string{subnet.ID}}, 0},
		{"by part of a name", cloud.Query{Type: resource.TypeKeyPair, Name: "us-list"}, 0},
	} {
		c.query.Region = p.Region
		if all, err := cloud.Collect(p.Adapter.Search(ctx(t), c.query)); err != nil || len(all) != c.want {
			t.Errorf("%s: found %d of %d, %v", c.about, len(all), c.want, err)
		}
	}
	seen := 0
	for range p.Adapter.Search(ctx(t), cloud.Query{
		Region: p.Region,
		Tags:   map[string]string{cloud.TagStack: "cloudtest"},
	}) {
		if seen++; seen == 3 {
			break // whoever has enough gets no more
		}
	}
	if seen != 3 {
		t.Errorf("a search that was broken off gave %d", seen)
	}
}

// publicKey is a made-up key of a made-up person.
const publicKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH3vDlXvW1kTjJ0mJqQ2eV6f3v6r9Ztq0ZqzB1m0c1xY " +
	"duty@saltmere.example"

func shrinking(t *testing.T, p Place) {
	disk := p.ready(t, "disk", "us-shrink", map[string]any{"size": "20GiB", "type": p.DiskType})
	_, err := p.drive(ctx(t), cloud.Task{Action: cloud.Alter, Ref: disk.Ref, Want: map[string]any{"size": "10GiB"}})
	wantClass(t, err, cloud.Invalid)
}

// tags: those of a creation are there from the first look on, and others replace
// them.
func tags(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-tags", map[string]any{"range": "10.9.0.0/16"})
	if network.Tags[cloud.TagResource] != "us-tags" {
		t.Errorf("made with tags, it has %v", network.Tags)
	}
	other := map[string]string{cloud.TagStack: "cloudtest", cloud.TagResource: "us-tags", "owner": "tam"}
	if live := p.alter(t, cloud.Task{Ref: network.Ref, Tags: other}); live.Tags["owner"] != "tam" ||
		live.Tags[cloud.TagStack] != "cloudtest" {
		t.Errorf("tagged anew it has %v", live.Tags)
	}
	delete(other, "owner")
	live := p.await(t, network.Ref)
	if live = p.alter(t, cloud.Task{Ref: live.Ref, Tags: other}); live.Tags["owner"] != "" {
		t.Errorf("a tag that was taken away is still there: %v", live.Tags)
	}
}

func takesAway(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-away-net", map[string]any{"range": "10.1.0.0/16"})
	subnet := p.ready(t, "subnet", "us-away-sub", map[string]any{"network": network.ID, "range": "10.1.0.0/24"})
	rules := p.ready(t, "firewall", "us-away-fw", map[string]any{
		"network": network.ID,
		"rules":   []any{map[string]any{"from": "127.0.0.0/8", "port": int64(22)}},
	})
	machine := p.ready(t, "instance", "us-away-vm", map[string]any{
		"size":      p.Size,
		"image":     p.Image,
		"subnet":    subnet.ID,
		"firewalls": []any{rules.ID},
	})
	live := p.alter(t, cloud.Task{
		Ref:    machine.Ref,
		Unset:  []string{"firewalls"},
		Before: map[string]any{"firewalls": []any{rules.ID}},
	})
	if left, _ := live.Has["firewalls"].([]any); len(left) > 0 {
		t.Errorf("firewalls that were taken away are still %v", left)
	}
	p.removed(t, rules.Ref) // nothing uses it any more
}

// conflict: an alteration rests on what was seen, and is refused when somebody was faster.
func conflict(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-stale", map[string]any{"range": "10.8.0.0/16"})
	p.alter(t, cloud.Task{Ref: network.Ref, Want: map[string]any{"name": "us-stale-second"}})
	// by the version of before
	_, err := p.drive(ctx(t), cloud.Task{
		Action: cloud.Alter,
		Ref:    network.Ref,
		Want:   map[string]any{"name": "us-stale-third"},
	})
	wantClass(t, err, cloud.Conflict)
}

func refusals(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-no-net", map[string]any{"range": "10.1.0.0/16"})
	subnet := p.ready(t, "subnet", "us-no-sub", map[string]any{"network": network.ID, "range": "10.1.0.0/24"})
	for _, class := range []cloud.Class{cloud.Quota, cloud.Capacity, cloud.Denied} {
		want, later := p.Refuse(class)
		want["image"], want["subnet"] = p.Image, subnet.ID
		ref, err := p.drive(ctx(t), p.create("instance", "us-no-"+string(class), want))
		if later {
			live, _, lookErr := p.Adapter.Look(ctx(t), ref)
			if err != nil || lookErr != nil || live.Phase != cloud.Broken || live.Why == "" {
				t.Errorf("%s: %v; it is %s: %q (%v)", class, err, live.Phase, live.Why, lookErr)
			}
			p.removed(t, ref)
			continue
		}
		e := wantClass(t, err, class)
		if e.Remedy == "" || class == cloud.Quota && e.Missing <= 0 || class == cloud.Capacity && len(e.Zones) == 0 ||
			!class.Refused() || class.Passing() {
			t.Errorf("%s tells too little: %+v", class, e)
		}
		if live, there, err := p.Adapter.Look(ctx(t), ref); err != nil || there == cloud.Present && live.ID != "" {
			t.Errorf("%s was refused and made: %v", class, err)
		}
		p.removed(t, ref) // what was made before it
	}
}

// concurrency: many at once through one adapter, each made once.
func concurrency(t *testing.T, p Place) {
	var all sync.WaitGroup
	failed := make(chan error, 20)
	for i := range 20 {
		all.Go(func() {
			mark := fmt.Sprintf("us-many-%02d", i)
			ref, err := p.drive(ctx(t), p.create("key_pair", mark, map[string]any{"public_key": publicKey}))
			if err == nil {
				_, _, err = p.Adapter.Look(ctx(t), ref)
			}
			if n := p.Made(mark); err == nil && n != 1 {
				err = fmt.Errorf("%s was made %d times", mark, n)
			}
			if err != nil {
				failed <- err
			}
		})
	}
	all.Wait()
	close(failed)
	for err := range failed {
		t.Error(err)
	}
}
