package cloud

import (
	"context"
	"testing"
	"time"
)

// moody answers with each of its errors once, then well.
type moody struct {
	Adapter
	errors []error
	calls  int
}

func (m *moody) Read(context.Context, Ref) (Live, error) {
	m.calls++
	if m.calls <= len(m.errors) {
		return Live{}, m.errors[m.calls-1]
	}
	return Live{ID: "dsk-1"}, nil
}

func (m *moody) Remove(context.Context, Ref) error {
	m.calls++
	return &Error{Class: Throttled}
}

func TestReadingIsTriedAgainAndChangingIsNot(t *testing.T) {
	t.Parallel()
	m := &moody{errors: []error{&Error{Class: Throttled, RetryAfter: time.Millisecond}, &Error{Class: Transient}, &Error{Class: UnknownOutcome}}}
	if live, err := Patient(m).Read(context.Background(), Ref{}); err != nil || live.ID != "dsk-1" || m.calls != 4 {
		t.Errorf("%v %v after %d calls", live, err, m.calls)
	}
	gone := &moody{errors: []error{&Error{Class: Gone}}}
	if _, err := Patient(gone).Read(context.Background(), Ref{}); ClassOf(err) != Gone || gone.calls != 1 {
		t.Errorf("%v after %d calls", err, gone.calls)
	}
	removing := &moody{}
	if err := Patient(removing).Remove(context.Background(), Ref{}); err == nil || removing.calls != 1 {
		t.Errorf("%v after %d calls", err, removing.calls)
	}
	ended, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Patient(&moody{errors: []error{&Error{Class: Throttled, RetryAfter: time.Hour}}}).Read(ended, Ref{}); ClassOf(err) != Throttled {
		t.Error(err)
	}
}

func TestQueriesFindByIDOrNameOrAllTags(t *testing.T) {
	t.Parallel()
	live := Live{Type: "network", ID: "net-1", Name: "main", Phase: Ready, Tags: map[string]string{"a": "1", "b": "2"}}
	for _, c := range []struct {
		q    Query
		want bool
	}{
		{Query{Type: "network", ID: "net-1"}, true}, {Query{Type: "subnet", ID: "net-1"}, false}, {Query{Type: "network", ID: "net-2"}, false},
		{Query{Type: "network", Name: "main"}, true}, {Query{Type: "network", Name: "mai"}, false},
		{Query{Type: "network", Tags: map[string]string{"a": "1"}}, true}, {Query{Type: "network", Tags: map[string]string{"a": "1", "b": "3"}}, false}, {Query{Type: "network"}, false},
	} {
		if got := c.q.Matches(live); got != c.want {
			t.Errorf("%s matches: %v", c.q, got)
		}
	}
	if live.Phase = Removing; (Query{Type: "network", ID: "net-1"}).Matches(live) {
		t.Error("what is being removed is found")
	}
}
