package service_test

import (
	"strings"
	"testing"

	"undersail/internal/service/momenttest"
)

// TestTwoAtOnce lets two do something at once, one held when all is looked at and nothing is
// written yet: whoever comes second is told what the first did. make chaos holds them at every
// other point too.
func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
	const (
		beginning = "SELECT stack_id::text FROM proposals"
		deciding  = "SELECT a.second_person FROM accounts"
		moving    = "SELECT FROM stacks WHERE name"
	)
	b := momenttest.NewBench(t)
	for _, x := range []struct{ first, second, at, told string }{
		{"kept remove", "take over", beginning, "it is not kept any more as it was: stack mole-N took it over as hold"},
		{"take over", "kept remove", beginning, "hold was to be altered and would now be created"},
		{"kept remove", "kept move", beginning, "somebody moved it, and it is kept as berth-N/hold"},
		{"kept move", "kept remove", moving, "is not kept under this name any more: it was removed"},
		{"kept move", "take over", moving, "stack mole-N took it over as hold"},
		{"continue", "retry", beginning, "ines let run R try again since proposal P was made"},
		{"retry", "continue", "SELECT kept, kept_as", "run R of stack quay-N, begun by ines, came after run"},
		{"retire", "read", beginning, "stack pier-N reads the outputs of quay-N"},
		{"read", "retire", beginning, "there is no stack"},
		{"apply", "apply", beginning, ""}, // both are told of the same run
		{"accept", "refuse", deciding, "is refused by ines: not now"},
		{"accept", "bound account", deciding, "asks that somebody else than ines accepts this proposal"},
		{"apply", "close account", beginning, "the account is closed"},
		{"stop", "give", "SELECT r.id", "is over already"},
	} {
		m := b.MeetAt(momenttest.Pair{First: x.first, Second: x.second}, x.at)
		if m.Ended {
			t.Errorf("%s never comes to %q", x.first, x.at)
		}
		if len(m.Wrong) > 0 || !strings.Contains(momenttest.Plain(m.Told[0]), x.told) ||
			x.told == "" && m.Told[0] != "" {
			t.Errorf("want %q: %s", x.told, m)
		}
	}
}

// TestRightsAreAskedInTheMomentOfTheEffect: they are taken away when all was asked and looked at,
// and nothing is written yet.
func TestRightsAreAskedInTheMomentOfTheEffect(t *testing.T) {
	t.Parallel()
	b := momenttest.NewBench(t)
	for _, first := range []string{"apply", "accept", "refuse", "retry", "stop", "retire", "take over", "kept remove",
		"kept move", "give", "bound account", "renew credentials", "close account", "read"} {
		m := b.MeetAt(momenttest.Pair{First: first, Second: "lose rights"}, "SELECT roles = $2")
		if m.Ended || len(m.Wrong) > 0 || m.Told[0] != "the rights of ines were changed at this moment" {
			t.Errorf("%s is done all the same: %s", first, m)
		}
	}
}
