package render

import (
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
)

// Layer is one source of input values, such as a preset or an inputs file.
type Layer struct {
	From   string         `json:"from"`
	Inputs map[string]any `json:"inputs"`
}

// Merge lays the layers over each other, lowest first: a later one replaces an
// input whole. Origins tells which layer gave each value. Defaults are no
// layer: they fill what is left when the template is rendered.
func Merge(layers ...Layer) (inputs map[string]any, origins map[string]string) {
	inputs, origins = map[string]any{}, map[string]string{}
	for _, l := range layers {
		for name, v := range l.Inputs {
			inputs[name], origins[name] = v, l.From
		}
	}
	return inputs, origins
}

// PresetLayer gives the values of a preset, or an error that names the presets
// there are.
func PresetLayer(t *lang.Template, name string) (Layer, error) {
	l := Layer{From: "preset " + name, Inputs: map[string]any{}}
	if name == "" {
		return l, nil
	}
	p := t.Preset(name)
	if p == nil {
		var names []string
		for _, p := range t.Presets {
			names = append(names, p.Name)
		}
		slices.Sort(names)
		switch close := expr.Closest(name, names); {
		case len(names) == 0:
			return l, fmt.Errorf("template %s has no presets", t.About.Name)
		case close != "":
			return l, fmt.Errorf("template %s has no preset %q; did you mean %s?", t.About.Name, name, close)
		}
		return l, fmt.Errorf("template %s has no preset %q; it has %s", t.About.Name, name, strings.Join(names, ", "))
	}
	for _, e := range p.Inputs {
		v, err := lang.Normalise(e.Value, t.Input(e.Key).Shape)
		if err != nil {
			return l, fmt.Errorf("preset %s: %s: %w", name, e.Key, err)
		}
		l.Inputs[e.Key] = v
	}
	return l, nil
}
