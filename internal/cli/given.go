package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/lang"
)

// given are the flags with which a user fills a template in.
type given struct {
	account, region, offers string
	files, values, secrets  []string
}

func (g *given) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&g.account, "account", "", "account to render for")
	f.StringVar(&g.region, "region", "", "region to render for")
	f.StringArrayVar(&g.files, "inputs", nil, "inputs file, YAML or JSON; a later one replaces whole inputs")
	f.StringArrayVar(&g.values, "input", nil, "one input as NAME=VALUE")
	f.StringArrayVar(&g.secrets, "secret", nil, "secret input as NAME=FILE; - is standard input")
}

// fill reads inputs and secrets in the types that the template wants.
func (g *given) fill(cmd *cobra.Command, t *lang.Template) (inputs map[string]any, secrets map[string]string, err error) {
	inputs, secrets = map[string]any{}, map[string]string{}
	take := func(name string, n *lang.Node) {
		in := t.Input(name)
		if in == nil {
			inputs[name] = n.Plain() // the rendering says that there is no such input
			return
		}
		v, err := lang.Normalise(n, in.Shape)
		if err != nil {
			v = n.Plain()
		}
		if text, ok := v.(string); ok && in.Secret {
			fmt.Fprintf(cmd.ErrOrStderr(), "warning: the secret %s stands in a file or on the command line; give it with --secret %s=FILE\n", name, name)
			secrets[name] = text
			return
		}
		inputs[name] = v
	}
	for _, file := range g.files {
		source, err := os.ReadFile(file)
		if err != nil {
			return nil, nil, &exit{exitUsage, err}
		}
		nodes, found := lang.ReadInputs(file, source)
		if found.HasErrors() {
			printDiagnostics(cmd.ErrOrStderr(), found)
			return nil, nil, &exit{exitFindings, fmt.Errorf("the inputs file %s has errors", file)}
		}
		for _, name := range slices.Sorted(maps.Keys(nodes)) {
			take(name, nodes[name])
		}
	}
	for _, pair := range g.values {
		name, text, ok := strings.Cut(pair, "=")
		if !ok {
			return nil, nil, &exit{exitUsage, fmt.Errorf("--input takes NAME=VALUE, not %q", pair)}
		}
		nodes, found := lang.ReadInputs("--input", []byte(name+": "+text))
		if found.HasErrors() || nodes[name] == nil {
			nodes = map[string]*lang.Node{name: {Text: text, Quoted: true}}
		}
		take(name, nodes[name])
	}
	return inputs, secrets, g.readSecrets(cmd, secrets)
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
