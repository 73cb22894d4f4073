package engine

import (
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"undersail/internal/core/use"
)

// TestTheStopwatchCountsWhatIsSpentWithoutWhatWasWaited, from when a step began and from when
// it made what it makes.
func TestTheStopwatchCountsWhatIsSpentWithoutWhatWasWaited(t *testing.T) {
	t.Parallel()
	w := newStopwatch(time.Date(2030, 5, 1, 8, 0, 0, 0, time.UTC))
	if _, _, begun := w.spent(3); begun {
		t.Error("what never began has spent something")
	}
	now := w.now()
	w.underWay(3, now.Add(-time.Hour), time.Time{})
	w.wait(3, 20*time.Minute, false)
	if all, settling, begun := w.spent(3); !begun || all.Round(time.Minute) != 40*time.Minute || settling != 0 {
		t.Errorf("begun %t, %v and %v", begun, all, settling)
	}
	w.madeNow(3, now.Add(-10*time.Minute))
	w.wait(3, 4*time.Minute, true)
	all, settling, _ := w.spent(3)
	if all.Round(time.Minute) != 36*time.Minute || settling.Round(time.Minute) != 6*time.Minute {
		t.Errorf("once made: %v and %v", all, settling)
	}
	if all, made := w.waited(3); all != 24*time.Minute || made != 4*time.Minute {
		t.Errorf("it waited %v and %v", all, made)
	}
	w.wait(3, time.Hour, true)
	if all, settling, _ := w.spent(3); all != 0 || settling != 0 {
		t.Errorf("who waited longer than it took has spent %v and %v", all, settling)
	}
}

// TestAThingIsToldOnce, however many tell it at a time.
func TestAThingIsToldOnce(t *testing.T) {
	t.Parallel()
	m := newMentions()
	var all sync.WaitGroup
	firsts := make(chan string, 100)
	for i := range 100 {
		all.Go(func() {
			if thing := fmt.Sprint("thing ", i%4); m.first(thing) {
				firsts <- thing
			}
		})
	}
	all.Wait()
	close(firsts)
	var told []string
	for thing := range firsts {
		told = append(told, thing)
	}
	slices.Sort(told)
	if !slices.Equal(told, []string{"thing 0", "thing 1", "thing 2", "thing 3"}) {
		t.Errorf("%v", told)
	}
	m.readTo("us-1", 40)
	if m.read("us-1") != 40 || m.read("us-2") != 0 {
		t.Error("what a command wrote is told of another")
	}
}

// TestQuestionsAreAskedOnceAndAnsweredByName: a value that nobody waits for answers none.
func TestQuestionsAreAskedOnceAndAnsweredByName(t *testing.T) {
	t.Parallel()
	var q questions
	if q.answeredBy([]string{"serial"}) {
		t.Error("who asks nothing is answered")
	}
	q.ask([]string{"serial", "berth"})
	q.ask([]string{"berth"})
	if inputs, uses := q.open(); !slices.Equal(inputs, []string{"berth", "serial"}) || len(uses) != 0 {
		t.Errorf("%v %v", inputs, uses)
	}
	if q.answeredBy([]string{"note"}) || !q.answeredBy([]string{"note", "berth"}) {
		t.Error("it is not the value that is waited for that answers")
	}
	q.agree([]use.Use{{Digest: "a"}, {Digest: "b"}})
	q.agree([]use.Use{{Digest: "b"}})
	if _, uses := q.open(); len(uses) != 2 {
		t.Errorf("%v", uses)
	}
	if !q.answeredBy(nil) {
		t.Error("what is agreed to is told by no name of an input")
	}
}
