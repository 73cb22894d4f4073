package proposing_test

import (
	"context"
	"strings"
	"testing"

	"undersail/internal/core/lang"
	"undersail/internal/secrets"
	"undersail/internal/service/servicetest"
)

const giver = `undersail: 1
about: {name: giver, version: 1.0.0, title: Giver}
inputs: {word: {secret: true, generate: true}}
resources: {pair: {type: key_pair}}
outputs:
  words: {value: '=["plain text", inputs.word]', about: W}
  key: {value: =pair.private_key, about: K}
  made: {value: '=inputs.word + "!"', about: C}
  both: {value: '={"a": inputs.word, "b": "open"}', about: B}
`

const taker = `undersail: 1
about: {name: taker, version: 1.0.0, title: Taker}
inputs: {from: {picks: stack, of: giver@^1}}
resources:
  key: {type: secret, want: {value: '="key " + inputs.from.outputs.key'}}
  word: {type: secret, want: {value: '="word " + inputs.from.outputs.words[1]'}}
  made: {type: secret, want: {value: =inputs.from.outputs.made}}
  both: {type: secret, want: {value: '="both " + inputs.from.outputs.both["a"]'}}
`

// TestSecretsFlowFromStackToStack: through attributes of types, lists, mappings and what is
// computed of them; a reference never arrives as text.
func TestSecretsFlowFromStackToStack(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Replica(0)
	ctx := context.Background()
	if _, _, err := s.Templates.Publish(ctx, r.Admin, lang.Bundle{File: "giver.sail.yaml", Source: giver}); err != nil {
		t.Fatal(servicetest.Explain(err))
	}
	r.Await(s, r.ApplySource(s, "giver", giver, nil))
	if done := r.Await(s, r.ApplySource(s, "taker", taker, map[string]any{"from": "giver"})); done.State != "done" {
		t.Fatal(done.Reason)
	}
	reveal := func(name string) string {
		v, err := s.Secrets.Reveal(ctx, r.Admin, secrets.Asked{Stack: "giver", Name: name, Reason: "to compare"})
		if err != nil {
			t.Fatal(err)
		}
		return v.Value
	}
	word, key := reveal("word"), reveal("pair.private_key")
	for label, want := range map[string]string{
		"key":  "key " + key,
		"word": "word " + word,
		"made": word + "!",
		"both": "both " + word,
	} {
		if got := r.SecretValue("taker-" + label); got != want {
			t.Errorf("%s is %q, want %q", label, got, want)
		}
	}
	for _, e := range []string{"key", "word", "made", "both"} {
		if strings.Contains(r.SecretValue("taker-"+e), "secret:") {
			t.Errorf("%s has the text of a reference", e)
		}
	}
}
