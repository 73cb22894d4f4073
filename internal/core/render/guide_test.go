package render

import (
	"testing"

	"undersail/internal/core/budget"
	"undersail/internal/core/lang"
)

const guided = `undersail: 1
about: {name: rota, version: 1.0.0, title: Rota}
inputs:
  officer: {type: string, default: duty}
  word: {secret: true}
  ports: {type: array, items: {type: integer}, default: [80, 443]}
resources:
  front: {type: address, when: =inputs.officer != "nobody"}
  board: {type: address, repeat: 2}
outputs:
  at: {value: '=board.map(b, b.address)', about: Where}
  word: {value: =inputs.word, about: Word}
guide: |
  As **{=inputs.officer}** at {=outputs.at}, ports {=inputs.ports}; {=outputs.word}
  {="braces {} and \"}quotes\"" + string(size(inputs.ports))}; {=stack.name}
`

func TestAGuideIsFilledInAsFarAsItIsKnown(t *testing.T) {
	t.Parallel()
	template, found := lang.Read("rota.sail.yaml", []byte(guided))
	if template == nil {
		t.Fatal(found)
	}
	request := Request{
		Template: template,
		Stack:    Stack{Name: "rota"},
		Inputs:   map[string]any{},
		Secrets:  map[string]string{"word": "rota/word@1"},
	}
	const end = "; secret:rota/word@1\nbraces {} and \"}quotes\"2; rota\n"
	if got, want := Render(budget.Boundless(), request).Guide, "As **duty** at ..., ports 80, 443"+end; got != want {
		t.Errorf("before anything is made:\n%q\nwant\n%q", got, want)
	}
	request.Known = func(r Resource) map[string]any { return map[string]any{"address": "203.0.113.7"} }
	got, want := Render(budget.Boundless(), request).Guide, "As **duty** at 203.0.113.7, 203.0.113.7, ports 80, 443"+end
	if got != want {
		t.Errorf("after it:\n%q\nwant\n%q", got, want)
	}
}
