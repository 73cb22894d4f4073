package stacks

import (
	"context"
	"fmt"
	"time"

	"undersail/internal/access"
	"undersail/internal/refusal"
	"undersail/internal/store"
)

// Event is one thing that happened in a run.
type Event struct {
	Run      int64     `json:"run"`
	Number   int64     `json:"number"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`
	Resource string    `json:"resource,omitempty"`
	State    string    `json:"state,omitempty"`
	Text     string    `json:"text"`
}

// Events lists the events of a run after a number.
func (s *Stacks) Events(ctx context.Context, run, after int64, most int) ([]Event, error) {
	list, err := s.store.Events(ctx, run, after, most)
	if err != nil {
		return nil, fmt.Errorf("reading the events of run %d: %w", run, err)
	}
	if len(list) == 0 || access.Seen(ctx) != nil {
		if _, err := s.store.Run(ctx, run); err != nil {
			return nil, refusal.Missing(err, "run", fmt.Sprint(run), "list them with: undersail runs")
		}
	}
	return eventsOf(list), nil
}

func eventsOf(list []store.Event) []Event {
	out := make([]Event, len(list))
	for i, e := range list {
		out[i] = Event{e.RunID, e.Number, e.At, e.Kind, e.Resource, e.State, e.Text}
	}
	return out
}

// AllEvents lists the events of all runs after a place in their stream, which is
// the text "TRANSACTION.RUN.NUMBER", with the place of each.
func (s *Stacks) AllEvents(ctx context.Context, cursor string, most int) (events []Event, places []string, err error) {
	var c store.Cursor
	if cursor != "" {
		if _, err := fmt.Sscanf(cursor, "%d.%d.%d", &c.XID, &c.Run, &c.Number); err != nil {
			return nil, nil, refusal.New(refusal.Invalid, "leave it out to begin with the first event",
				"%q is not a place in the stream", cursor)
		}
	}
	list, err := s.store.AllEvents(ctx, c, most)
	for _, e := range list {
		places = append(places, fmt.Sprintf("%d.%d.%d", e.XID, e.RunID, e.Number))
	}
	return eventsOf(list), places, err
}

// Wake calls f whenever a run may have new events, until the context ends.
func (s *Stacks) Wake(ctx context.Context, f func(run string)) error { return s.store.Listen(ctx, f) }
