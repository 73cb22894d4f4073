package lang

import (
	"errors"
	"fmt"
	"slices"
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

// TestNestingIsCountedToItsDeepestPlace, wherever that is.
func TestNestingIsCountedToItsDeepestPlace(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		"a: [1]\nb: [[[2]]]\nc: [{d: 1}]": "3 in line 2",
		"a: {b: {c: 1}}\nd: [1]":          "2 in line 1",
	} {
		deepest, line := flowDepth(strings.Split(text, "\n"))
		if got := fmt.Sprintf("%d in line %d", deepest, line); got != want {
			t.Errorf("%q is %s deep, want %s", text, got, want)
		}
	}
}

// TestAFaultOfTheParserIsToldWithItsPlace also where it comes as words alone.
func TestAFaultOfTheParserIsToldWithItsPlace(t *testing.T) {
	t.Parallel()
	r := newReport("t", []byte("a:\n  b: 1\n    c: 2\n"))
	yamlErrors(r, errors.New("yaml: line 3, column 5: did not find what was expected"))
	if len(r.found) != 1 || r.found[0].Position != (Position{3, 5}) {
		t.Errorf("%+v", r.found)
	}
}

// TestWhatDoesNotGoWithBeingGivenLaterIsToldEach: one finding for each key, at its place.
func TestWhatDoesNotGoWithBeingGivenLaterIsToldEach(t *testing.T) {
	t.Parallel()
	for key, value := range map[string]string{"default": "1", "optional": "true", "secret": "true", "generate": "true",
		"asks_consent": "Nobody asks"} {
		_, found := Read("t", []byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\ninputs:\n  word:\n"+
			"    type: string\n    later: true\n    "+key+": "+value+"\nresources: {front: {type: address}}\n"))
		want := "input word is given later, and `" + key + "` does not go with that"
		if !slices.ContainsFunc(found, func(d Diagnostic) bool {
			return d.Message == want && d.Position.Line == 7 && d.Severity == Error
		}) {
			t.Errorf("%s: %v", key, found)
		}
	}
}

// TestVersionsAreComparedKeyByKeyAndListsAsTheyAre.
func TestVersionsAreComparedKeyByKeyAndListsAsTheyAre(t *testing.T) {
	t.Parallel()
	read := func(text string) *Template {
		t.Helper()
		read, found := Read("t", []byte("undersail: 1\nabout: {name: t, version: 1.0.0, title: T}\n"+text))
		if found.HasErrors() {
			t.Fatal(found)
		}
		return read
	}
	before := read("resources: {data: {type: disk, want: {size: 10GiB, type: solid, tags: {a: b}}}}\n")
	after := read("resources: {data: {type: disk, want: {size: 20GiB, type: solid, tags: {a: c}}}}\n")
	got := fmt.Sprint(Differences(before, after))
	want := "[{changed resources.data.want.size [before  10GiB after   20GiB] false} " +
		"{changed resources.data.want.tags [before  {a: b} after   {a: c}] false}]"
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if same := Differences(before, before); len(same) > 0 {
		t.Errorf("nothing differs: %v", same)
	}
}

// TestASizingTableIsForSizes: another input cannot be drawn from one.
func TestASizingTableIsForSizes(t *testing.T) {
	t.Parallel()
	_, found := Read("t", []byte(`undersail: 1
about: {name: t, version: 1.0.0, title: T}
inputs:
  boats: {type: integer, default: 3}
  size: {type: string, default: x, sized_by: {table: fleet, for: =inputs.boats}}
sizing:
  fleet: [{up_to: 10, needs: {vcpus: 1}}]
resources: {front: {type: address, want: {tags: {size: =inputs.size}}}}
`))
	if !slices.ContainsFunc(found, func(d Diagnostic) bool {
		return d.Message == "`sized_by` is for sizes" && d.Position.Line == 5
	}) {
		t.Errorf("%v", found)
	}
}

// TestBlankLinesAreOneAtMost, none at the begin and the end, and as they are within a text.
func TestBlankLinesAreOneAtMost(t *testing.T) {
	t.Parallel()
	got := cleaned("\n\na: 1  \n\n\n\nb: |\n  one\n\n\n  two\nc: 2\n\n\n")
	if want := "a: 1\n\nb: |\n  one\n\n\n  two\nc: 2\n"; got != want {
		t.Errorf("%q, want %q", got, want)
	}
}
