package fault_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"undersail/internal/fault"
	"undersail/internal/gentle"
)

func breaks() error { return note(nil) }

func note(tides map[string]int) error {
	tides["now"] = 1
	return nil
}

// TestAPanicIsAnErrorWithItsStack holds for whoever does something by themselves, in a group, or
// on a thread that gives way: the stack is that of the place where it broke.
func TestAPanicIsAnErrorWithItsStack(t *testing.T) {
	before := fault.Count()
	group, ctx := fault.WithContext(context.Background())
	group.Go(breaks)
	group.Go(func() error { <-ctx.Done(); return nil })
	for how, err := range map[string]error{
		"by itself":  fault.Caught(breaks),
		"in a group": group.Wait(),
		"giving way": fault.Caught(func() error { gentle.Do(func() { _ = breaks() }); return nil }),
		"on a thread": fault.Caught(func() error {
			gentle.MakeRoom()
			gentle.Do(func() { _ = breaks() })
			return nil
		}),
		"within error": fmt.Errorf("look at the tide: %w", fault.Caught(breaks)),
	} {
		var e *fault.Error
		if !errors.As(err, &e) || !strings.Contains(e.Stack, "fault_test.note") ||
			!strings.Contains(err.Error(), "a fault of Under Sail itself: assignment to entry in nil map") {
			t.Errorf("%s: %v\n%+v", how, err, e)
		}
		var log bytes.Buffer
		fault.Log(slog.New(slog.NewTextHandler(&log, nil)), slog.LevelWarn, "it broke", err, "stack of", "tide")
		if text := log.String(); !strings.Contains(text, "fault_test.note") || !strings.Contains(text, "it broke") {
			t.Errorf("%s: the log has %s", how, text)
		}
	}
	if n := fault.Count() - before; n != 5 {
		t.Errorf("%d panics were counted, and there were 5", n)
	}
	if err := fault.Caught(func() error { return errors.New("low water") }); err.Error() != "low water" {
		t.Errorf("an error becomes %v", err)
	}
}
