package engine

import (
	"context"
	"fmt"
	"maps"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/store"
	"undersail/internal/task"
)

// undone judges the undoing of a task.
func (t *tasks) undone(ctx context.Context, m task.Machine, ref cloud.Ref, state task.State,
	output string) (cloud.Live, cloud.Presence, error) {
	switch {
	case state.Phase == task.Running:
		l := t.live(ref, cloud.Removing)
		l.ReadyIn = nextLook
		return l, cloud.Present, nil
	case state.Phase == task.Lost || state.Exit != 0:
		return cloud.Live{}, "", &cloud.Error{
			Class:   cloud.Invalid,
			Message: "what undoes it " + endedBadly(state, output),
			Remedy:  "mend the machine, or take `undo` out of the template, and propose again",
		}
	}
	for _, p := range ref.Parts { // what is left there is of no more use; it harms nobody when it stays
		_ = m.Forget(ctx, p.Mark)
	}
	return t.live(ref, cloud.Removing), cloud.Absent, nil
}

// judged judges a run of the command.
func (t *tasks) judged(ctx context.Context, m task.Machine, ref cloud.Ref, want map[string]any, state task.State,
	output string) (cloud.Live, cloud.Presence, error) {
	l := t.live(ref, cloud.Making)
	answer := text(want, "answer")
	kept := t.tellable(want, output)
	switch {
	case state.Phase == task.Running:
		l.ReadyIn = nextLook
		return l, cloud.Present, nil
	case state.Phase == task.Lost || state.Exit != 0:
		l.Phase, l.Why = cloud.Broken, "the command "+endedBadly(state, kept)
		return l, cloud.Present, nil
	case answer != "" && !strings.Contains(output, answer):
		l.Phase, l.Why = cloud.Broken, fmt.Sprintf("the command did not answer %q, but %s", answer, short(kept))
		return l, cloud.Present, nil
	}
	l.Phase = cloud.Ready
	l.Attributes["output"], l.Attributes["exit"] = kept, state.Exit
	if path := text(want, "reads"); path != "" {
		file, err := m.Read(ctx, path)
		if err != nil {
			l.Phase, l.Why = cloud.Broken, err.Error()
			return l, cloud.Present, nil
		}
		l.Attributes["file"] = t.x.scrub(file)
	}
	return l, cloud.Present, nil
}

func endedBadly(s task.State, output string) string {
	if s.Phase == task.Lost {
		return "ended without an exit code: the machine was started again, or somebody ended it; it wrote " +
			short(output)
	}
	return fmt.Sprintf("ended with exit code %d; it wrote %s", s.Exit, short(output))
}

// short is the end of what a command wrote, where the reason usually stands.
func short(output string) string {
	output = strings.Join(strings.Fields(output), " ")
	if letters := []rune(output); len(letters) > logLetters {
		output = "..." + string(letters[len(letters)-logLetters:])
	}
	if output == "" {
		return "nothing"
	}
	return output
}

// tellable is what of the output may be kept and told.
func (t *tasks) tellable(want map[string]any, output string) string {
	row := t.x.records.named(t.s.Resource)
	told := row != nil && ToldSecret(given(row.Want))
	return strings.TrimSpace(t.x.prober().Tellable(text(want, "on"), text(want, "keep"), output, told))
}

// given is what of a task the machine is given, without what opens the way to it.
func given(want map[string]any) map[string]any {
	out := maps.Clone(want)
	for _, name := range []string{"key", "through", "host_key"} {
		delete(out, name)
	}
	return out
}

// tell tells what a command wrote since it was looked at last.
func (t *tasks) tell(ctx context.Context, want map[string]any, mark, output string, ended bool) error {
	from := min(t.x.mentions.read(mark), len(output))
	fresh := output[from:]
	if !ended { // whole lines only, so that no secret is cut in two
		fresh = fresh[:strings.LastIndexByte(fresh, '\n')+1]
	}
	if strings.TrimSpace(fresh) == "" {
		return nil
	}
	t.x.mentions.readTo(mark, from+len(fresh))
	shown := t.tellable(want, fresh)
	if shown == "" || strings.HasPrefix(shown, "(") && from > 0 {
		return nil
	}
	return t.x.note(ctx, store.Event{
		Kind:     "output",
		Resource: t.s.Resource,
		Text:     t.s.Resource + " wrote: " + strings.TrimRight(shown, "\n"),
	}, nil)
}
