package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/cloud"
	"undersail/internal/core/resource"
	"undersail/internal/store"
)

// findLost looks for what carries the mark of the stack and is recorded nowhere. Every step
// commits its token before it makes anything, so such a thing is newer than the records: it is
// told and listed, and a person decides.
func (x *execution) findLost(ctx context.Context) error {
	live, err := x.marked(ctx, x.account.Regions...)
	if err != nil {
		return err
	}
	if live, err = Unrecorded(ctx, x.engine.Store, live, x.run.ID); err != nil {
		return fmt.Errorf("looking for what nobody recorded: %w", err)
	}
	var found []store.Kept
	for _, l := range live {
		if slices.ContainsFunc(x.steps, func(s store.Step) bool { return s.Token == l.Token && s.IntentAt != nil }) {
			continue
		}
		k := FoundOf(l, x.account.Name, x.document.Cost.Currency)
		k.Hour = x.hour(&store.Resource{Name: k.Name, Type: k.Type, Region: k.Region, Want: k.Want})
		found = append(found, k)
	}
	news, err := x.engine.Store.AddFound(ctx, found)
	if err != nil {
		return fmt.Errorf("recording what was found: %w", err)
	}
	for _, k := range news {
		text := fmt.Sprintf("found the %s %s, which carries the mark of stack %s and is recorded nowhere; it stays "+
			"as it is: undersail kept", resource.Words(k.Type), k.ID(), x.run.Stack)
		if err := x.note(ctx, store.Event{Kind: "run", Resource: k.Name, Text: text}, nil); err != nil {
			return err
		}
	}
	return nil
}

// Records knows what is recorded.
type Records interface {
	// RecordedTokens tells which tokens are recorded of any stack, or kept, or belong to a run
	// that goes on, but for one that is about to end, or were proved to be gone.
	RecordedTokens(ctx context.Context, tokens []string, ending int64) (map[string]bool, error)
}

// Unrecorded leaves of what carries the mark of stacks what is recorded nowhere and is there.
// What is kept, or was taken over by another stack, may still carry the mark of the first. What
// a run that goes on is about to make is not meant, unless it is the one that is ending.
func Unrecorded(ctx context.Context, st Records, live []cloud.Live, ending int64) ([]cloud.Live, error) {
	tokens := make([]string, len(live))
	for i, l := range live {
		tokens[i] = l.Token
	}
	known, err := st.RecordedTokens(ctx, tokens, ending)
	if err != nil {
		return nil, fmt.Errorf("reading the recorded tokens: %w", err)
	}
	return slices.DeleteFunc(slices.Clone(live), func(l cloud.Live) bool {
		return known[l.Token] || l.Phase == cloud.Removing || l.Token == ""
	}), nil
}

// FoundOf is what is listed of something that carries the mark of a stack and is recorded
// nowhere.
func FoundOf(l cloud.Live, account, currency string) store.Kept {
	name := l.Tags[cloud.TagResource]
	declared, _, _ := strings.Cut(name, "[")
	want := plainMap(l.Has)
	delete(want, "tags")
	return store.Kept{
		Token:      l.Token,
		StackID:    l.Tags[cloud.TagStackID],
		Stack:      l.Tags[cloud.TagStack],
		Account:    account,
		Region:     l.Region,
		Name:       name,
		Type:       l.Type,
		Declared:   declared,
		Want:       want,
		Attributes: plainMap(l.Attributes),
		Parts:      l.Parts,
		Currency:   currency,
	}
}
