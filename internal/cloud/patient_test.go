package cloud

import (
	"context"
	"iter"
	"testing"
	"time"
)

// moody answers with each of its errors once, then well.
type moody struct {
	Adapter
	errors []error
	calls  int
}

func (m *moody) Look(context.Context, Ref) (Live, Presence, error) {
	m.calls++
	if m.calls <= len(m.errors) {
		return Live{}, "", m.errors[m.calls-1]
	}
	return Live{ID: "dsk-1"}, Present, nil
}

func (m *moody) Step(context.Context, Task, func(Part) error) (Progress, error) {
	m.calls++
	return Progress{}, &Error{Class: Throttled}
}

func (m *moody) Search(context.Context, Query) iter.Seq2[Live, error] {
	return func(yield func(Live, error) bool) {
		m.calls++
		if yield(Live{ID: "dsk-1"}, nil) && m.calls <= len(m.errors) {
			yield(Live{}, m.errors[m.calls-1])
		}
	}
}

func TestReadingIsTriedAgainAndChangingIsNot(t *testing.T) {
	t.Parallel()
	m := &moody{
		errors: []error{&Error{Class: Throttled, RetryAfter: time.Millisecond}, &Error{Class: Transient},
			&Error{Class: UnknownOutcome}},
	}
	if live, _, err := Patient(m).Look(context.Background(), Ref{}); err != nil || live.ID != "dsk-1" || m.calls != 4 {
		t.Errorf("%v %v after %d calls", live, err, m.calls)
	}
	gone := &moody{errors: []error{&Error{Class: Gone}}}
	if _, _, err := Patient(gone).Look(context.Background(), Ref{}); ClassOf(err) != Gone || gone.calls != 1 {
		t.Errorf("%v after %d calls", err, gone.calls)
	}
	paging := &moody{errors: []error{&Error{Class: Throttled}, &Error{Class: Transient}}}
	all, err := Collect(Patient(paging).Search(context.Background(), Query{}))
	if err != nil || len(all) != 1 || paging.calls != 3 {
		t.Errorf("a search that broke off gave %v %v after %d calls", all, err, paging.calls)
	}
	removing := &moody{}
	_, err = Patient(removing).Step(context.Background(), Task{Action: Remove}, nil)
	if err == nil || removing.calls != 1 {
		t.Errorf("%v after %d calls", err, removing.calls)
	}
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	_, _, err = Patient(&moody{errors: []error{&Error{Class: Throttled, RetryAfter: time.Hour}}}).Look(ended, Ref{})
	if ClassOf(err) != Throttled {
		t.Error(err)
	}
}

func TestQueriesFindByIDOrNameOrAllTags(t *testing.T) {
	t.Parallel()
	live := Live{
		Ref:   Ref{Type: "network"},
		ID:    "net-1",
		Name:  "main",
		Phase: Ready,
		Tags:  map[string]string{"a": "1", "b": "2"},
	}
	for _, c := range []struct {
		q    Query
		want bool
	}{
		{Query{Type: "network", ID: "net-1"}, true},
		{Query{Type: "subnet", ID: "net-1"}, false},
		{Query{Type: "network", ID: "net-2"}, false},
		{Query{Type: "network", Name: "main"}, true},
		{Query{Type: "network", Name: "mai"}, false},
		{Query{Type: "network", Tags: map[string]string{"a": "1"}}, true},
		{Query{Type: "network", Tags: map[string]string{"a": "1", "b": "3"}}, false},
		{Query{Type: "network"}, false},
	} {
		if got := c.q.Matches(live); got != c.want {
			t.Errorf("%s matches: %v", c.q, got)
		}
	}
}

func TestAPartIsUnseenBeforeItIsAbsent(t *testing.T) {
	t.Parallel()
	sent := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	ref := Ref{Token: "us-vm"}.With(Part{
		Kind: "servers",
		Mark: "us-vm",
		Sent: sent,
	}).With(Part{Kind: "ports", Mark: "us-vm-0", Sent: sent, ID: "port-1", Seen: true})
	if !ref.Unsure() {
		t.Fatal("a call without an answer is sure")
	}
	same, until := ref.Settle(sent.Add(5*time.Second), 10*time.Second)
	if !same.Unsure() || !until.Equal(sent.Add(10*time.Second)) {
		t.Errorf("within its visibility: %v, ask again at %s", same.Parts, until)
	}
	absent, until := ref.Settle(sent.Add(10*time.Second), 10*time.Second)
	if absent.Unsure() || !until.IsZero() || absent.Part("ports", "us-vm-0").ID != "port-1" || !ref.Unsure() {
		t.Errorf("after it: %v", absent.Parts)
	}
}
