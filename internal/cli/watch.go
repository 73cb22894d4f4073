package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/state"
	"undersail/internal/review"
	"undersail/internal/stacks"
)

// marks tell a state by shape, so that no colour is needed.
var marks = map[string]string{"waiting": "○", "working": "◌", "settling": "◐", "healthy": "●", "failed": "■",
	"skipped": "–", "removing": "◌", "removed": "●",
	"unhealthy": "▲", "parked": "◇", "missing": "◌", "absent": "○"}

// watch follows a run to its end and turns the end into an exit code.
func (a *app) watch(cmd *cobra.Command, c *contract.Client, id int64) error {
	live := a.output == "table" && isTerminal(cmd.OutOrStdout())
	var view liveView
	if live {
		ticking, stop := context.WithCancel(cmd.Context())
		defer stop()
		go view.tick(ticking, cmd.OutOrStdout())
	}
	err := follow(cmd.Context(), c, id, func(e stacks.Event) error {
		if e.Kind == "run" && e.State == state.Parked {
			run, err := decode[stacks.Run](c.GetRun(cmd.Context(), id))
			if err == nil && run.State == state.Parked && run.LastEvent == e.Number {
				return errWaits
			}
		}
		switch {
		case a.output == "json":
			line, err := json.Marshal(e)
			if err != nil {
				return err
			}
			_, err = fmt.Fprintln(raw(cmd.OutOrStdout()), shownJSON(string(line)))
			return err
		case live:
			run, err := decode[stacks.Run](c.GetRun(cmd.Context(), id))
			if err == nil {
				view.show(cmd.OutOrStdout(), run)
			}
			return err
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s  %s\n", e.At.Local().Format("15:04:05"), e.Text)
		return nil
	})
	if err != nil && !errors.Is(err, errWaits) {
		return err
	}
	run, err := decode[stacks.Run](c.GetRun(cmd.Context(), id))
	if err != nil {
		return err
	}
	if live {
		view.show(cmd.OutOrStdout(), run)
	}
	switch run.State {
	case state.Done:
		if a.output == "table" && run.Kind != state.KindRetire {
			printGuide(cmd.Context(), c, cmd.OutOrStdout(), run.Stack)
		}
		return nil
	case state.Parked:
		return &exit{exitWaiting, fmt.Errorf("run %d waits for a person: %s", run.ID, run.Reason)}
	}
	return &exit{exitFailed,
		fmt.Errorf("run %d %s: %s\ncontinue with: %s", run.ID, endWord(run.State), run.Reason, run.Next)}
}

// errWaits says that nothing more happens in a run before a person acts.
var errWaits = errors.New("the run waits for a person")

func endWord(word string) string {
	if word == state.Stopped {
		return "was stopped"
	}
	return word
}

// follow reads the stream of a run and takes it up again where it broke, until
// the run is over.
func follow(ctx context.Context, c *contract.Client, id int64, each func(stacks.Event) error) error {
	last := ""
	for wait := 200 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		over, err := readStream(ctx, c, id, &last, func(e stacks.Event) error {
			wait = 200 * time.Millisecond
			return each(e)
		})
		var known *exit
		if over || errors.Is(err, errWaits) || errors.As(err, &known) && known.code != exitUnreachable {
			return err
		}
		if ctx.Err() != nil {
			return &exit{exitFailed,
				fmt.Errorf("no longer watching; the run goes on. Look again with: undersail watch %d", id)}
		}
		if wait > 4*time.Second {
			return &exit{exitUnreachable,
				fmt.Errorf("the service does not answer any more; look again with: undersail watch %d", id)}
		}
		time.Sleep(wait)
	}
}

func readStream(ctx context.Context, c *contract.Client, id int64, last *string,
	each func(stacks.Event) error) (over bool, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		fmt.Sprintf("%sapi/v1/runs/%d/events/stream", c.Server, id), nil)
	if err != nil {
		return false, fmt.Errorf("reading the stream of run %d: %w", id, err)
	}
	for _, edit := range c.RequestEditors {
		if err := edit(ctx, req); err != nil {
			return false, err
		}
	}
	if *last != "" {
		req.Header.Set("Last-Event-ID", *last)
	}
	res, err := c.Client.Do(req)
	if err != nil {
		return false, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return false, problemExit(res)
	}
	lines := bufio.NewScanner(res.Body)
	lines.Buffer(nil, 1<<20)
	number := ""
	for lines.Scan() {
		line := lines.Text()
		switch {
		case line == "event: over":
			return true, nil
		case strings.HasPrefix(line, "id: "):
			number = line[len("id: "):]
		case strings.HasPrefix(line, "data: "):
			var e stacks.Event
			if err := json.Unmarshal([]byte(line[len("data: "):]), &e); err != nil {
				return false, fmt.Errorf("reading the stream of run %d: %w", id, err)
			}
			if err := each(e); err != nil {
				return false, err
			}
			*last = number
		}
	}
	return false, lines.Err()
}

// liveView redraws a run in place: with each event, and twice a second for the
// clocks.
type liveView struct {
	mu    sync.Mutex
	run   *stacks.Run
	read  time.Time // when it was as it is shown
	lines int
}

// show draws a newer state of the run.
func (v *liveView) show(w io.Writer, run stacks.Run) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.run, v.read = &run, time.Now()
	v.draw(w)
}

func (v *liveView) tick(ctx context.Context, w io.Writer) {
	clock := time.NewTicker(500 * time.Millisecond)
	defer clock.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-clock.C:
			v.mu.Lock()
			if v.run != nil && v.run.EndedAt == nil {
				v.draw(w)
			}
			v.mu.Unlock()
		}
	}
}

func (v *liveView) draw(w io.Writer) {
	var b strings.Builder
	shown := *v.run
	switch since := time.Since(v.read).Seconds(); shown.State {
	case state.Parked:
		shown.WaitedS += since
	case state.Underway, state.Stopping, state.Undoing:
		shown.UnderWayS += since
	}
	printRun(&b, shown, time.Now())
	text := clipLines(b.String(), terminalWidth(w))
	if v.lines > 0 {
		fmt.Fprintf(raw(w), "\x1b[%dA\x1b[J", v.lines)
	}
	io.WriteString(w, text)
	v.lines = strings.Count(text, "\n")
}

// clipLines keeps every line within the terminal: a wrapped line would be
// counted wrongly when the view is drawn again.
func clipLines(text string, width int) string {
	if width <= 0 {
		return text
	}
	var b strings.Builder
	for line := range strings.Lines(text) {
		b.WriteString(clip(strings.TrimSuffix(line, "\n"), width) + "\n")
	}
	return b.String()
}

func printRun(w io.Writer, run stacks.Run, now time.Time) {
	fmt.Fprintf(w, "Run %d of stack %s is %s: %d of %d steps after %s\n", run.ID, run.Stack, run.State, run.Finished,
		run.Total, took(run))
	if run.EndedAt == nil && run.ExpectedEnd != nil && run.State != state.Parked {
		fmt.Fprintf(w, "expected end %s", run.ExpectedEnd.Local().Format("15:04:05"))
		if run.Decides != "" {
			fmt.Fprintf(w, ", decided by %s", run.Decides)
		}
		fmt.Fprintln(w)
	}
	fmt.Fprintln(w)
	columns(w, "  RESOURCE\tCHANGE\tSTATE\tTIME\t", func(row func(string, ...any)) {
		for _, s := range run.Steps {
			row("%s %s\t%s\t%s\t%s\t%s", marks[s.State], s.Resource, s.Change, s.State, stepTime(s, now, run.Rate),
				clip(s.Reason, 70))
		}
	})
	if len(run.Attempts) > 1 {
		fmt.Fprintln(w)
		columns(w, "  ATTEMPT\tBY\tBEGAN\tTOOK\tENDED", func(row func(string, ...any)) {
			for _, at := range run.Attempts {
				began := "-"
				if at.BeganAt != nil {
					began = at.BeganAt.Local().Format("2006-01-02 15:04:05")
				}
				row("  %d\t%s\t%s\t%s\t%s", at.Number, at.By, began, spent(at.UnderWayS, at.WaitedS, run.Rate),
					clip(strings.TrimSuffix(review.OrDash(at.State)+": "+at.Reason, ": "), 60))
			}
		})
	}
	if run.Reason != "" {
		fmt.Fprintf(w, "\n%s\n", run.Reason)
	}
	if run.Next != "" {
		fmt.Fprintf(w, "next: %s\n", run.Next)
	}
}

func stepTime(s stacks.Step, now time.Time, rate float64) string {
	if s.BeganAt == nil {
		return "-"
	}
	end := now
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	return review.Clock(max(0, end.Sub(*s.BeganAt).Seconds()-s.WaitedS), rate)
}
