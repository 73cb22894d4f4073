package lang

import (
	"strings"
	"testing"
)

// TestWhatIsGivenLaterDecidesNothingBeforehand: how many there are must be known at rendering.
func TestWhatIsGivenLaterDecidesNothingBeforehand(t *testing.T) {
	t.Parallel()
	_, found := Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs: {count: {type: integer, later: true}}
resources: {front: {type: address, repeat: =inputs.count}}
`))
	if !found.HasErrors() || !strings.Contains(found[0].Message, "is given later") {
		t.Errorf("%v", found)
	}
}

// TestAnInputThatAsksForConsentNeedsNoReader: agreeing is all that it is for.
func TestAnInputThatAsksForConsentNeedsNoReader(t *testing.T) {
	t.Parallel()
	for line, warned := range map[string]bool{
		"open: {type: boolean, default: false, asks_consent: Everybody may come in}": false,
		"open: {type: boolean, default: false}":                                      true,
	} {
		_, found := Read("t", []byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\ninputs:\n  "+line+
			"\nresources: {front: {type: address}}\n"))
		if got := len(found) == 1 && found[0].Code == "unused-input"; got != warned || len(found) > 1 {
			t.Errorf("%s: %v", line, found)
		}
	}
}

// TestWhatLooksLikeACommentInATextStaysWhereItIs: it is a line of a file on a machine.
func TestWhatLooksLikeACommentInATextStaysWhereItIs(t *testing.T) {
	t.Parallel()
	const source = `undersail: 1
about: {name: t, version: 1.0.0, title: T}
guide: |
  Beside the quay:

    # sailing orders
      # and the tide
resources:
  front: {type: address}
`
	tidy, found := Tidy("t", []byte(source))
	if found.HasErrors() || !strings.Contains(string(tidy), "\n    # sailing orders\n      # and the tide\n") {
		t.Errorf("%v\n%s", found, tidy)
	}
}
