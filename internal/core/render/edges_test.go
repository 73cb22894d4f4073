package render

import (
	"encoding/json"
	"strings"
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/offer"
)

// TestWhatIsKnownAndTheSameDoesNotDiffer: values come from JSON, so that a number, a list and a map
// of the same content are the same, whatever is pending may become anything, and the place is told.
func TestWhatIsKnownAndTheSameDoesNotDiffer(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ was, now, at string }{
		{`{"a": 1, "b": [true, null]}`, `{"b": [true, null], "a": 1}`, ""},
		{`{"a": 1}`, `{"a": 2}`, "want.a"},
		{`{"a": true}`, `{"a": false}`, "want.a"},
		{`{"a": [1, 2]}`, `{"a": [1, 3]}`, "want.a[1]"},
		{`{"a": [1]}`, `{"a": [1, 1]}`, "want.a"},
		{`{"a": {"pending": ["net.id"]}}`, `{"a": 7}`, ""},
		{`{"a": 1}`, `{"a": 1, "b": 1}`, "want.b"},
		{`{"a": 1}`, `7`, "want"},
	} {
		var was, now any
		if err := json.Unmarshal([]byte(c.was), &was); err != nil {
			t.Fatal(err)
		}
		if err := json.Unmarshal([]byte(c.now), &now); err != nil {
			t.Fatal(err)
		}
		if at, differs := Differs("want", was, now); differs != (c.at != "") || differs && at != c.at {
			t.Errorf("%s, then %s: %v at %q, want %q", c.was, c.now, differs, at, c.at)
		}
	}
}

// TestWhatAnInputAllowsIsTold by whatever its schema has.
func TestWhatAnInputAllowsIsTold(t *testing.T) {
	t.Parallel()
	number := func(text string) json.Number { return json.Number(text) }
	for want, schema := range map[string]map[string]any{
		" among small, 7":        {"enum": []any{"small", 7}},
		" from 2 to 9":           {"minimum": number("2"), "maximum": number("9")},
		" of at least 2":         {"minimum": number("2")},
		" of at most 9":          {"maximum": number("9")},
		" of the form ^[a-z]+$":  {"pattern": "^[a-z]+$"},
		" that the input allows": {"minLength": number("3")},
		" from 2 to 8 in steps of 2, such as 4 or 6": {
			"minimum":    number("2"),
			"maximum":    number("8"),
			"multipleOf": number("2"),
		},
	} {
		if got := allowed(schema, 5); got != want {
			t.Errorf("%v allows%s, want%s", schema, got, want)
		}
	}
}

// TestARangeThatNobodyCanReadTakesNoRoom: a cloud may have networks that it tells no range of.
func TestARangeThatNobodyCanReadTakesNoRoom(t *testing.T) {
	t.Parallel()
	known := &offer.Offers{Networks: []offer.Network{{ID: "a", Range: ""}, {ID: "b", Range: "10.0.0.0/20"}}}
	r := Render(budget.Boundless(), Request{Template: template(t, ranged), Offers: known})
	for _, in := range r.Inputs {
		if in.Name == "first" && in.Value != "10.0.16.0/20" {
			t.Errorf("the free range is %v", in.Value)
		}
	}
}

// TestTagsThatWaitAreLeftToWait: those of the account go with what is known alone.
func TestTagsThatWaitAreLeftToWait(t *testing.T) {
	t.Parallel()
	text := "resources:\n  front: {type: address}\n  data: {type: disk, want: {size: 10GiB, type: solid, tags: TAGS}}\n"
	for tags, want := range map[string]string{
		"{a: b}":                   `{"a":"b","team":"tide"}`,
		"{team: mine}":             `{"team":"mine"}`,
		"{at: =front.address}":     `{"at":{"pending":["front.address"]},"team":"tide"}`,
		`'={"at": front.address}'`: `{"pending":["front.address"]}`,
	} {
		r := Render(budget.Boundless(), Request{
			Template: template(t, strings.Replace(text, "TAGS", tags, 1)),
			Stack:    Stack{Name: "quay", Tags: map[string]string{"team": "tide"}},
		})
		for _, res := range r.Resources {
			if res.Name == "data" && encode(t, res.Want["tags"]) != want {
				t.Errorf("%s: %s, want %s\n%v", tags, encode(t, res.Want["tags"]), want, r.Findings)
			}
		}
	}
}

// TestWhatOffersSayIsExplainedByWhoseTheyAre where they are known, and awaited where not.
func TestWhatOffersSayIsExplainedByWhoseTheyAre(t *testing.T) {
	t.Parallel()
	read := template(t, "resources:\n  front: {type: address, repeat: =size(offers.zones)}\noutputs:\n"+
		"  zones: {value: =size(offers.zones)}\n")
	in := Request{Template: read, Stack: Stack{Name: "quay", Account: "saltmere-lab", Region: "north-fell"}}
	for _, known := range []bool{true, false} {
		from := "what a region sells"
		if in.Offers = nil; known {
			in.Offers, from = offers(), "what region north-fell sells account saltmere-lab"
		}
		in.Explain = "outputs.zones"
		r := Render(budget.Boundless(), in)
		if r.Explained == nil || !strings.Contains(encode(t, r.Explained), `"from":"`+from+`"`) {
			t.Errorf("known %v: %s", known, encode(t, r.Explained))
		}
	}
}

// TestTheInputsOfAPropertyAreListedOnce, also those that it reads through values that are computed.
func TestTheInputsOfAPropertyAreListedOnce(t *testing.T) {
	t.Parallel()
	read := template(t, `inputs:
  range: {type: string, format: cidr, default: 10.0.0.0/16}
  note: {type: string, default: a}
calc:
  both: =inputs.note + inputs.note + inputs.range
resources:
  net: {type: network, want: {range: =inputs.range, tags: {note: =calc.both, again: =inputs.note}}}
`)
	for place, want := range map[string]string{
		"net.range": "range", "net.tags": "note range", "net.tags.note": "note range", "net": "", "lan.range": "",
	} {
		if got := strings.Join(InputsOf(read, place), " "); got != want {
			t.Errorf("%s is written with %q, want %q", place, got, want)
		}
	}
	if got := InputsOf(nil, "net.range"); got != nil {
		t.Error(got)
	}
}

// TestWhatAnEarlierVersionWroteOfNeedsIsRead: it said kept for met, in proposals that are still there.
func TestWhatAnEarlierVersionWroteOfNeedsIsRead(t *testing.T) {
	t.Parallel()
	for text, met := range map[string]bool{
		`{"what":"vcpus","kept":true}`: true, `{"what":"vcpus","met":true}`: true,
		`{"what":"vcpus","kept":false}`: false, `{"what":"vcpus","met":false}`: false,
	} {
		var c Compliance
		if err := json.Unmarshal([]byte(text), &c); err != nil || c.Met != met || c.What != "vcpus" {
			t.Errorf("%s: %+v %v", text, c, err)
		}
	}
}
