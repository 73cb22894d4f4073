package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
)

// given are the flags with which a user fills a template in.
type given struct {
	place
	offers, preset, explain string
	files, values, secrets  []string
	// recorded are the inputs that a stack was last applied with.
	recorded map[string]any
}

func (g *given) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	g.place.flags(cmd)
	f.StringVar(&g.preset, "preset", "", "preset of the template; inputs files and single inputs lie above it")
	f.StringArrayVar(&g.files, "inputs", nil, "inputs file, YAML or JSON; a later one replaces whole inputs")
	f.StringArrayVar(&g.values, "input", nil, "one input as NAME=VALUE")
	f.StringArrayVar(&g.secrets, "secret", nil, "secret input as NAME=FILE; - is standard input")
}

// filled is what a user gave, by layer, lowest first.
type filled struct {
	files   []render.Layer
	single  render.Layer
	secrets map[string]string
	// places tell by inputs.NAME in which file and line its value stands.
	places map[string]string
}

// layers are all layers of values, with a preset's below the others.
func (f filled) layers(t *lang.Template, preset string) ([]render.Layer, error) {
	lowest, err := render.PresetLayer(t, preset)
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	secret := render.Layer{From: "--secret", Inputs: map[string]any{}}
	for name, v := range f.secrets {
		secret.Inputs[name] = v
	}
	return append(append([]render.Layer{lowest}, f.files...), f.single, secret), nil
}

// fill reads inputs and secrets in the types that the template wants.
func (g *given) fill(cmd *cobra.Command, t *lang.Template) (filled, error) {
	out := filled{
		secrets: map[string]string{},
		places:  map[string]string{},
		single:  render.Layer{From: "--input", Inputs: map[string]any{}},
	}
	for _, file := range g.files {
		source, err := os.ReadFile(file)
		if err != nil {
			return out, &exit{exitUsage, err}
		}
		nodes, found := lang.ReadInputs(file, source)
		if found.HasErrors() {
			printDiagnostics(cmd.ErrOrStderr(), found)
			return out, &exit{exitFindings, fmt.Errorf("the inputs file %s has errors", file)}
		}
		layer := render.Layer{From: "file " + filepath.Base(file), Inputs: map[string]any{}}
		for _, name := range slices.Sorted(maps.Keys(nodes)) {
			err := take(t, &layer, out.secrets, name, nodes[name], fmt.Sprintf("%s:%d", file, nodes[name].Line))
			if err != nil {
				return out, err
			}
			out.places["inputs."+name] = fmt.Sprintf("%s:%d", file, nodes[name].Line)
		}
		out.files = append(out.files, layer)
	}
	for _, pair := range g.values {
		name, text, ok := strings.Cut(pair, "=")
		if !ok {
			return out, &exit{exitUsage, fmt.Errorf("--input takes NAME=VALUE, not %q", pair)}
		}
		if err := take(t, &out.single, out.secrets, name, lang.Typed(name, text), "--input "+name); err != nil {
			return out, err
		}
		delete(out.places, "inputs."+name)
	}
	return out, g.readSecrets(cmd, out.secrets)
}

// take reads one value by the type that the template wants. A secret in the clear is
// refused: files are committed and sent around, and arguments stand in the lists of
// processes. What refers to a sealed one is none.
func take(t *lang.Template, into *render.Layer, secrets map[string]string, name string, n *lang.Node,
	place string) error {
	in := t.Input(name)
	if in == nil {
		into.Inputs[name] = n.Plain()
		return nil
	}
	v := in.Read(n)
	if !in.Secret {
		into.Inputs[name] = v
		return nil
	}
	text, ok := v.(string)
	if !ok || !strings.HasPrefix(text, "secret:") {
		return &exit{exitFindings,
			fmt.Errorf("%s: the secret %s stands there in the clear\nremedy: take it out, and give it with --secret "+
				"%s=FILE, or keep it sealed and refer to it: undersail secrets add NAME, then secret:NAME", place, name,
				name)}
	}
	secrets[name] = text
	return nil
}

func (g *given) readSecrets(cmd *cobra.Command, into map[string]string) error {
	for _, pair := range g.secrets {
		name, file, ok := strings.Cut(pair, "=")
		if !ok {
			return &exit{exitUsage, fmt.Errorf("--secret takes NAME=FILE, not %q", pair)}
		}
		var raw []byte
		var err error
		if file == "-" {
			raw, err = io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
		} else {
			raw, err = os.ReadFile(file)
		}
		if err != nil {
			return &exit{exitUsage, err}
		}
		into[name] = strings.TrimRight(string(raw), "\r\n")
	}
	return nil
}
