package test

import (
	"testing"
)

// TestTheDemoComesUpWithItsStacks starts what newcomers start: with all its data, and with
// nobody there who could agree to anything.
func TestTheDemoComesUpWithItsStacks(t *testing.T) {
	t.Parallel()
	b := start(t, "--pace", "240")
	var stacks []struct{ Name, State string }
	b.into(&stacks, "stacks")
	states := map[string]string{}
	for _, s := range stacks {
		states[s.Name] = s.State
	}
	if states["warnings-north"] != "healthy" || states["readings-archive"] != "healthy" ||
		states["intake-trial"] == "" {
		t.Errorf("the demo has %v", states)
	}
	if audit := b.must(0, "audit").out; len(audit) == 0 {
		t.Error("its audit is empty")
	}
}
