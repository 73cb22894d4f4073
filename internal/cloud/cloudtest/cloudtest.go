// Package cloudtest is the conformance suite that every adapter passes
// unchanged. An adapter's test gives it a [Place] to work in and ways to make
// the cloud misbehave.
package cloudtest

import (
	"context"
	"errors"
	"testing"
	"time"

	"undersail/internal/cloud"
)

// Place is an account to test in.
type Place struct {
	Adapter cloud.Adapter
	// Stranger is an adapter with credentials that are not valid.
	Stranger cloud.Adapter
	Region   string
	Size     string // a size sold in the first zone
	Image    string
	DiskType string
	// Fault makes the cloud misbehave once: lose-answer, server-error or
	// throttle on calls of a method such as create.
	Fault func(kind string)
	// Made counts the resources ever made with a token.
	Made func(token string) int
}

// Run checks that an adapter keeps its promises.
func Run(t *testing.T, open func(t *testing.T) Place) {
	for name, check := range map[string]func(*testing.T, Place){
		"WhoAmI": whoAmI, "Offers": offersTell, "Lifecycle": lifecycle, "CreateTwiceIsOne": createTwice, "LostAnswerIsUnknown": lostAnswer,
		"ServerErrorIsTransient": serverError, "ThrottlingSaysWhen": throttling, "InUse": inUse, "Invalid": invalid, "Gone": gone, "SignIn": signIn, "ListByTag": list,
		"ShrinkingIsRefused": shrinking, "TokenOfARemovedResource": removedToken,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			check(t, open(t))
		})
	}
}

func ctx(t *testing.T) context.Context {
	c, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	t.Cleanup(cancel)
	return c
}

func (p Place) request(typeName, token string, want map[string]any) cloud.Request {
	want["name"] = token
	return cloud.Request{Region: p.Region, Type: typeName, Token: token, Want: want, Tags: map[string]string{cloud.TagStack: "cloudtest", cloud.TagResource: token}}
}

func (p Place) ref(typeName, token string) cloud.Ref {
	return cloud.Ref{Region: p.Region, Type: typeName, Token: token}
}

func wantClass(t *testing.T, err error, class cloud.Class) *cloud.Error {
	t.Helper()
	var e *cloud.Error
	if !errors.As(err, &e) || e.Class != class {
		t.Fatalf("error %v, want class %q", err, class)
	}
	return e
}

// ready creates a resource and waits until it is there.
func (p Place) ready(t *testing.T, typeName, token string, want map[string]any) cloud.Live {
	t.Helper()
	if _, err := p.Adapter.Create(ctx(t), p.request(typeName, token, want)); err != nil {
		t.Fatal(err)
	}
	return p.await(t, typeName, token)
}

func (p Place) await(t *testing.T, typeName, token string) cloud.Live {
	t.Helper()
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		live, err := p.Adapter.Read(ctx(t), p.ref(typeName, token))
		if err != nil {
			t.Fatal(err)
		}
		if live.Phase == cloud.Ready {
			return live
		}
	}
	t.Fatalf("%s %s is never ready", typeName, token)
	return cloud.Live{}
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
	if !ok || size.VCPUs == 0 || size.MemoryBytes == 0 || size.Hour <= 0 || len(size.Zones) == 0 {
		t.Errorf("size %+v", size)
	}
	if len(o.Zones) < 2 || len(o.DiskTypes) == 0 || len(o.Images) == 0 || o.Quotas["vcpus"].Limit == 0 || o.Currency == "" {
		t.Errorf("offers %+v", o)
	}
}

func lifecycle(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-life-net", map[string]any{"range": "10.1.0.0/16"})
	subnet := p.ready(t, "subnet", "us-life-sub", map[string]any{"network": network.ID, "range": "10.1.0.0/24"})
	rules := p.ready(t, "firewall", "us-life-fw", map[string]any{"network": network.ID, "rules": []any{map[string]any{"from": "127.0.0.0/8", "port": int64(22)}}})
	disk := p.ready(t, "disk", "us-life-disk", map[string]any{"size": "20GiB", "type": p.DiskType})
	machine := p.ready(t, "instance", "us-life-vm", map[string]any{"size": p.Size, "image": p.Image, "subnet": subnet.ID, "public": true, "firewalls": []any{rules.ID},
		"disks": []any{map[string]any{"disk": disk.ID, "mount": "/data"}}, "user_data": map[string]any{"packages": []any{"nginx"}}})
	for _, name := range []string{"id", "private_address", "public_address", "host_key", "reach", "vcpus", "memory"} {
		if v := machine.Attributes[name]; v == nil || v == "" {
			t.Errorf("a ready machine reports no %s", name)
		}
	}
	if _, err := p.Adapter.Change(ctx(t), p.ref("disk", "us-life-disk"), map[string]any{"size": "30GiB"}); err != nil {
		t.Fatal(err)
	}
	if grown := p.await(t, "disk", "us-life-disk"); grown.Attributes["size"] != "30GiB" {
		t.Errorf("the disk reports %v after growing", grown.Attributes["size"])
	}
	for _, r := range []cloud.Ref{p.ref("instance", "us-life-vm"), p.ref("disk", "us-life-disk"), p.ref("firewall", "us-life-fw"), p.ref("subnet", "us-life-sub"), p.ref("network", "us-life-net")} {
		p.removed(t, r)
	}
}

func (p Place) removed(t *testing.T, r cloud.Ref) {
	t.Helper()
	if err := p.Adapter.Remove(ctx(t), r); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(10 * time.Millisecond) {
		if _, err := p.Adapter.Read(ctx(t), r); cloud.ClassOf(err) == cloud.Gone {
			return
		}
	}
	t.Fatalf("%v is never gone", r)
}

func createTwice(t *testing.T, p Place) {
	r := p.request("network", "us-twice", map[string]any{"range": "10.2.0.0/16"})
	first, err := p.Adapter.Create(ctx(t), r)
	if err != nil {
		t.Fatal(err)
	}
	second, err := p.Adapter.Create(ctx(t), r)
	if err != nil || second.ID != first.ID || p.Made("us-twice") != 1 {
		t.Errorf("the same token gave %s and %s (%v), made %d times", first.ID, second.ID, err, p.Made("us-twice"))
	}
}

func lostAnswer(t *testing.T, p Place) {
	p.Fault("lose-answer")
	_, err := p.Adapter.Create(ctx(t), p.request("network", "us-lost", map[string]any{"range": "10.3.0.0/16"}))
	wantClass(t, err, cloud.UnknownOutcome)
	if _, err := p.Adapter.Read(ctx(t), p.ref("network", "us-lost")); err != nil {
		t.Errorf("what was made without an answer is not found under its token: %v", err)
	}
}

func serverError(t *testing.T, p Place) {
	p.Fault("server-error")
	_, err := p.Adapter.Create(ctx(t), p.request("network", "us-503", map[string]any{"range": "10.4.0.0/16"}))
	wantClass(t, err, cloud.Transient)
	if p.Made("us-503") != 0 {
		t.Error("a refused call was carried out")
	}
}

func throttling(t *testing.T, p Place) {
	p.Fault("throttle")
	_, err := p.Adapter.Create(ctx(t), p.request("network", "us-429", map[string]any{"range": "10.5.0.0/16"}))
	if e := wantClass(t, err, cloud.Throttled); e.RetryAfter <= 0 {
		t.Error("throttling does not say when to come back")
	}
}

func inUse(t *testing.T, p Place) {
	network := p.ready(t, "network", "us-used-net", map[string]any{"range": "10.6.0.0/16"})
	p.ready(t, "subnet", "us-used-sub", map[string]any{"network": network.ID, "range": "10.6.0.0/24"})
	wantClass(t, p.Adapter.Remove(ctx(t), p.ref("network", "us-used-net")), cloud.InUse)
}

func invalid(t *testing.T, p Place) {
	_, err := p.Adapter.Create(ctx(t), p.request("network", "us-bad", map[string]any{"range": "10.0.0.1/16"}))
	if e := wantClass(t, err, cloud.Invalid); e.Property != "range" {
		t.Errorf("the error is about %q, not about range", e.Property)
	}
}

func gone(t *testing.T, p Place) {
	_, err := p.Adapter.Read(ctx(t), p.ref("network", "us-never"))
	wantClass(t, err, cloud.Gone)
	if err := p.Adapter.Remove(ctx(t), p.ref("network", "us-never")); err != nil {
		t.Errorf("removing what is gone: %v", err)
	}
}

func signIn(t *testing.T, p Place) {
	_, err := p.Stranger.WhoAmI(ctx(t))
	wantClass(t, err, cloud.SignIn)
}

func list(t *testing.T, p Place) {
	p.ready(t, "network", "us-list-net", map[string]any{"range": "10.7.0.0/16"})
	for i := range 60 { // more than one page
		r := p.request("key_pair", "us-list-"+string(rune('a'+i/26))+string(rune('a'+i%26)), map[string]any{"public_key": publicKey})
		if _, err := p.Adapter.Create(ctx(t), r); err != nil {
			t.Fatal(err)
		}
	}
	all, err := p.Adapter.List(ctx(t), p.Region, cloud.TagStack, "cloudtest")
	if err != nil || len(all) != 61 {
		t.Errorf("listed %d of 61, %v", len(all), err)
	}
	if none, err := p.Adapter.List(ctx(t), p.Region, cloud.TagStack, "other"); err != nil || len(none) != 0 {
		t.Errorf("another tag lists %d, %v", len(none), err)
	}
}

// publicKey is a made-up key of a made-up person.
const publicKey = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIH3vDlXvW1kTjJ0mJqQ2eV6f3v6r9Ztq0ZqzB1m0c1xY duty@saltmere.example"

func shrinking(t *testing.T, p Place) {
	p.ready(t, "disk", "us-shrink", map[string]any{"size": "20GiB", "type": p.DiskType})
	_, err := p.Adapter.Change(ctx(t), p.ref("disk", "us-shrink"), map[string]any{"size": "10GiB"})
	wantClass(t, err, cloud.Invalid)
}

func removedToken(t *testing.T, p Place) {
	p.ready(t, "network", "us-again", map[string]any{"range": "10.8.0.0/16"})
	p.removed(t, p.ref("network", "us-again"))
	_, err := p.Adapter.Create(ctx(t), p.request("network", "us-again", map[string]any{"range": "10.8.0.0/16"}))
	wantClass(t, err, cloud.Gone)
}
