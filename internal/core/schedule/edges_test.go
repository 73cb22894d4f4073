package schedule

import (
	"testing"
	"time"
)

func TestTriesAreNeverFurtherApartThanHalfAMinute(t *testing.T) {
	t.Parallel()
	r := New([]Step{{Name: "net"}}, nil, Limits{}, nil)
	for tries, want := range map[int]time.Duration{
		1: 200 * time.Millisecond, 2: 400 * time.Millisecond, 8: 25600 * time.Millisecond,
		9: 30 * time.Second, 11: 30 * time.Second, 1000: 30 * time.Second,
	} {
		if got := r.backoff(tries); got != want {
			t.Errorf("after %d tries: %v, want %v", tries, got, want)
		}
	}
}

// TestTheLongestWaitThatTheAccountAskedForHolds: a later answer that asks for less does not end it.
func TestTheLongestWaitThatTheAccountAskedForHolds(t *testing.T) {
	t.Parallel()
	now := time.Unix(1000, 0)
	r := New([]Step{{Name: "a"}, {Name: "b"}}, nil, Limits{InFlight: 2}, nil)
	r.Handle(Event{}, now)
	r.Handle(Event{Step: 0, Outcome: Throttled, At: now.Add(20 * time.Second)}, now)
	r.Handle(Event{Step: 1, Outcome: Throttled, At: now.Add(5 * time.Second)}, now)
	if a := r.Handle(Event{}, now.Add(10*time.Second)); len(a) != 0 {
		t.Errorf("within the longer wait: %v", a)
	}
	if a := r.Handle(Event{}, now.Add(20*time.Second)); len(a) != 2 {
		t.Errorf("after it: %v", a)
	}
}

// TestWaitingMovesWhenSomethingWasMade: how long it has settled is counted from then.
func TestWaitingMovesWhenSomethingWasMade(t *testing.T) {
	t.Parallel()
	now := time.Unix(1000, 0)
	r := New([]Step{{Name: "host", Expect: time.Second, Patience: time.Hour}}, nil, Limits{}, nil)
	r.Handle(Event{}, now)
	r.Handle(Event{Outcome: Accepted}, now)
	r.Handle(Event{Outcome: Made}, now)
	r.Handle(Event{Outcome: NotYet, Waited: 7 * time.Second}, now.Add(9*time.Second))
	if got := r.Status(0).MadeAt; !got.Equal(now.Add(7 * time.Second)) {
		t.Errorf("made %v after it was", got.Sub(now))
	}
}

func TestNoMoreIsLookedAtThanTheLimitAllows(t *testing.T) {
	t.Parallel()
	now := time.Unix(1000, 0)
	steps := []Step{
		{Name: "a", Expect: time.Second}, {Name: "b", Expect: time.Second}, {Name: "c", Expect: time.Second},
	}
	r := New(steps, nil, Limits{InFlight: 3, Looks: 2}, nil)
	r.Handle(Event{}, now)
	for i := range steps {
		r.Handle(Event{Step: i, Outcome: Accepted, At: now.Add(time.Minute)}, now)
	}
	looks := r.Handle(Event{}, now.Add(time.Minute))
	if len(looks) != 2 || looks[0].Do != Look || looks[1].Do != Look {
		t.Fatalf("%v", looks)
	}
	more := r.Handle(Event{Step: looks[0].Step, Outcome: NotYet, At: now.Add(time.Hour)}, now.Add(time.Minute))
	if len(more) != 1 || more[0].Do != Look {
		t.Errorf("once one has come back: %v", more)
	}
}

// TestAStepThatNeedsAnotherCallMakesItWhenItMay: at the moment that the answer named, and not before.
func TestAStepThatNeedsAnotherCallMakesItWhenItMay(t *testing.T) {
	t.Parallel()
	began := time.Unix(0, 0)
	r := New([]Step{{Name: "data", Patience: time.Hour}}, nil, Limits{InFlight: 1}, nil)
	if got := r.Handle(Event{}, began); len(got) != 1 || got[0].Do != Call {
		t.Fatal(got)
	}
	at := began.Add(time.Minute)
	if got := r.Handle(Event{Step: 0, Outcome: More, At: at}, began.Add(time.Second)); len(got) != 0 {
		t.Errorf("before it may: %v", got)
	}
	if wake := r.Wake(); !wake.Equal(at) {
		t.Errorf("it wakes at %v, want %v", wake, at)
	}
	if got := r.Handle(Event{}, at); len(got) != 1 || got[0].Do != Call {
		t.Errorf("when it may: %v", got)
	}
}
