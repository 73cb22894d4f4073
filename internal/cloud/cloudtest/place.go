package cloudtest

import (
	"cmp"
	"context"
	"errors"
	"maps"
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
	// Tells are attributes that a ready machine reports beside those that every cloud
	// tells; Priced says that the cloud tells prices.
	Tells  []string
	Priced bool
	// Fault makes the cloud misbehave at the next creating call: lose-answer,
	// server-error or throttle; see [Faults].
	Fault func(kind string)
	// Refuse makes the cloud refuse instances for a class of error from now on, Quota,
	// Capacity or Denied, where they want what it gives besides an image and a subnet.
	// Later says that one is refused only after the call, by the machine that never comes.
	Refuse func(class cloud.Class) (want map[string]any, later bool)
	// Made counts the things that were made with a mark and are there, or ever were.
	Made func(mark string) int
	// Patience is how long something may take to be there; 20 seconds when zero. Alone
	// says that the account has no room for several checks at once.
	Patience time.Duration
	Alone    bool
}

func (p Place) patience() time.Duration { return cmp.Or(p.Patience, 20*time.Second) }

func ctx(t *testing.T) context.Context {
	c, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	t.Cleanup(cancel)
	return c
}

func (p Place) ref(typeName, token string) cloud.Ref {
	return cloud.Ref{Region: p.Region, Type: typeName, Token: token}
}

// create is the task that makes a resource with our mark.
func (p Place) create(typeName, token string, want map[string]any) cloud.Task {
	want = maps.Clone(want)
	want["name"] = token
	return cloud.Task{
		Action: cloud.Create,
		Ref:    p.ref(typeName, token),
		Want:   want,
		Tags:   map[string]string{cloud.TagStack: "cloudtest", cloud.TagResource: token},
	}
}

// drive makes the steps of a task to their end, as an engine would, and gives the
// reference with every part that was intended.
func (p Place) drive(c context.Context, task cloud.Task) (cloud.Ref, error) {
	for range 200 {
		progress, err := p.Adapter.Step(c, task, func(part cloud.Part) error {
			part.Sent = time.Now()
			task.Ref = task.Ref.With(part)
			return nil
		})
		var e *cloud.Error
		// others wait for it in their turn
		if errors.As(err, &e) && e.Class == cloud.Throttled && task.Action != cloud.Create {
			time.Sleep(e.RetryAfter)
			continue
		}
		if err != nil {
			return task.Ref, err
		}
		for _, part := range progress.Live.Parts {
			task.Ref = task.Ref.With(part)
		}
		if !progress.More {
			return task.Ref, nil
		}
		if progress.Live.ReadyIn > 0 {
			time.Sleep(p.patience() / 100)
		}
	}
	return task.Ref, errors.New("the task does not end")
}

func wantClass(t *testing.T, err error, class cloud.Class) *cloud.Error {
	t.Helper()
	var e *cloud.Error
	if !errors.As(err, &e) || e.Class != class {
		t.Fatalf("error %v, want class %q", err, class)
	}
	return e
}

// ready creates a resource, in its turn where others call too, and waits until it is there.
func (p Place) ready(t *testing.T, typeName, token string, want map[string]any) cloud.Live {
	t.Helper()
	task := p.create(typeName, token, want)
	ref, err := p.drive(ctx(t), task)
	var e *cloud.Error
	for deadline := time.Now().Add(p.patience()); errors.As(err, &e) && e.Class == cloud.Throttled &&
		time.Now().Before(deadline); {
		time.Sleep(e.RetryAfter)
		task.Ref = ref
		ref, err = p.drive(ctx(t), task)
	}
	if err != nil {
		t.Fatal(err)
	}
	return p.await(t, ref)
}

func (p Place) await(t *testing.T, ref cloud.Ref) cloud.Live {
	t.Helper()
	for deadline := time.Now().Add(p.patience()); time.Now().Before(deadline); time.Sleep(p.patience() / 2000) {
		live, there, err := p.Adapter.Look(ctx(t), ref)
		if cloud.ClassOf(err) == cloud.Throttled && err != nil {
			time.Sleep(p.patience() / 20)
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		if there == cloud.Present && live.Phase == cloud.Ready {
			return live
		}
	}
	t.Fatalf("%s %s is never ready", ref.Type, ref.Token)
	return cloud.Live{}
}

func (p Place) alter(t *testing.T, task cloud.Task) cloud.Live {
	t.Helper()
	task.Action = cloud.Alter
	ref, err := p.drive(ctx(t), task)
	if err != nil {
		t.Fatal(err)
	}
	return p.await(t, ref)
}

func (p Place) removed(t *testing.T, r cloud.Ref) {
	t.Helper()
	for deadline := time.Now().Add(p.patience()); ; time.Sleep(p.patience() / 200) {
		_, err := p.drive(ctx(t), cloud.Task{Action: cloud.Remove, Ref: r})
		if err == nil {
			break
		}
		if !cloud.ClassOf(err).Passing() || time.Now().After(deadline) {
			t.Fatal(err)
		}
	}
	p.gone(t, r)
}

func (p Place) gone(t *testing.T, r cloud.Ref) {
	t.Helper()
	for deadline := time.Now().Add(p.patience()); time.Now().Before(deadline); time.Sleep(p.patience() / 2000) {
		if _, there, err := p.Adapter.Look(ctx(t), r); err == nil && there == cloud.Absent {
			return
		}
	}
	t.Fatalf("%v is never gone", r)
}
