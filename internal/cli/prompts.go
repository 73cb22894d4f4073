package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"charm.land/huh/v2"
	"github.com/spf13/cobra"

	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
	"undersail/internal/secrets"
	"undersail/internal/stacks"
	"undersail/internal/templates"
)

// interactive reports whether somebody sits before both ends of the command. What is
// missing is asked then, and never elsewhere.
func (a *app) interactive(cmd *cobra.Command) bool {
	return isTerminal(cmd.InOrStdin()) && isTerminal(cmd.ErrOrStderr())
}

// ask shows one question after the other.
func ask(cmd *cobra.Command, fields ...huh.Field) error {
	var groups []*huh.Group
	for _, f := range fields {
		groups = append(groups, huh.NewGroup(f))
	}
	form := huh.NewForm(groups...).WithInput(cmd.InOrStdin()).WithOutput(raw(cmd.ErrOrStderr())).
		WithAccessible(os.Getenv("TERM") == "dumb")
	err := form.RunWithContext(cmd.Context())
	if errors.Is(err, huh.ErrUserAborted) || errors.Is(err, context.Canceled) {
		return &exit{exitFailed, fmt.Errorf("nothing was done")}
	}
	if err != nil {
		return &exit{exitFailed, err}
	}
	return nil
}

// choose asks for one of several names.
func choose(cmd *cobra.Command, title string, options []offer.Option) (string, error) {
	if len(options) == 0 {
		return "", &exit{exitUsage, fmt.Errorf("%s: there are none to choose from", title)}
	}
	var value string
	return value, ask(cmd, selection(title, "", options, &value))
}

// selection is a question with choices; what does not do is left out, unless nothing
// does.
func selection(title, about string, options []offer.Option, into *string) huh.Field {
	fits := slices.DeleteFunc(slices.Clone(options), func(o offer.Option) bool { return len(o.WhyNot) > 0 })
	if len(fits) == 0 {
		fits = options
	}
	var list []huh.Option[string]
	for _, o := range fits {
		label := o.Value
		if o.About != "" {
			label += "  " + o.About
		}
		list = append(list, huh.NewOption(label, o.Value))
	}
	s := huh.NewSelect[string]().Title(title).Description(about).Options(list...).Value(into)
	if len(list) > 12 {
		s = s.Height(14)
	}
	return s
}

// askPlace asks for what a new stack needs first: its template, account and region.
func (a *app) askPlace(cmd *cobra.Command, stack string, g *given, template *string) error {
	if !a.interactive(cmd) {
		return nil
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	if st, err := decode[stacks.Stack](c.GetStack(cmd.Context(), stack)); err == nil {
		g.recorded = map[string]any{}
		for _, in := range st.Inputs {
			g.recorded[in.Name] = in.Value
		}
		g.account, g.region = cmp.Or(g.account, st.Account), cmp.Or(g.region, st.Region)
		return nil // it has them
	}
	if *template == "" {
		list, err := decode[[]templates.Template](c.ListTemplates(cmd.Context()))
		if err != nil {
			return err
		}
		var options []offer.Option
		for _, t := range list {
			options = append(options, offer.Option{Value: t.Name, About: t.Title})
		}
		if *template, err = choose(cmd, "Template", options); err != nil {
			return err
		}
	}
	return g.choose(a, cmd, c)
}

// askMissing asks for inputs that must be given and were not, with the choices that
// the offers of the place leave.
func (a *app) askMissing(cmd *cobra.Command, t *lang.Template, g *given, f *filled) error {
	missing := missingInputs(t, g, *f)
	if len(missing) == 0 || !a.interactive(cmd) {
		return nil
	}
	var o *offer.Offers
	switch {
	case g.offers != "":
		saved, err := savedOffers(g.offers)
		if err != nil {
			return err
		}
		o = &saved
	case g.account != "" && g.region != "":
		told, err := a.offers(cmd, g.account, g.region)
		if err != nil {
			return err
		}
		o = &told
	}
	answers := make([]string, len(missing))
	var fields []huh.Field
	own, err := a.ownSecrets(cmd)
	if err != nil {
		return err
	}
	for i, in := range missing {
		if in.Picks == "secret" && len(own) > 0 {
			fields = append(fields, selection(cmp.Or(in.Title, in.Name), in.Rules.Words(), own, &answers[i]))
			continue
		}
		fields = append(fields, question(in, o, &answers[i]))
	}
	if err := ask(cmd, fields...); err != nil {
		return err
	}
	for i, in := range missing {
		if in.Secret {
			f.secrets[in.Name] = answers[i]
			continue
		}
		if v, err := answered(in, answers[i]); err == nil {
			f.single.Inputs[in.Name] = v
		}
	}
	return nil
}

// missingInputs are those that must be given, and are in no layer.
func missingInputs(t *lang.Template, g *given, f filled) []*lang.Input {
	layers, err := f.layers(t, g.preset)
	if err != nil {
		return nil // what is wrong with the preset is told when it is used
	}
	have, _ := render.Merge(layers...)
	var out []*lang.Input
	for _, in := range t.Inputs {
		if in.Required() && have[in.Name] == nil && g.recorded[in.Name] == nil {
			out = append(out, in)
		}
	}
	return out
}

// ownSecrets are the secrets that stand for themselves, where there is a service to ask.
func (a *app) ownSecrets(cmd *cobra.Command) ([]offer.Option, error) {
	c, err := a.client()
	if err != nil {
		return nil, nil
	}
	list, err := decode[[]secrets.Named](c.ListSecrets(cmd.Context()))
	if err != nil {
		return nil, err
	}
	var out []offer.Option
	for _, n := range list {
		if n.Kind == "secret" {
			out = append(out, offer.Option{Value: "secret:" + n.Name, About: n.About})
		}
	}
	return out, nil
}

// question is how an input is asked for.
func question(in *lang.Input, o *offer.Offers, into *string) huh.Field {
	title := cmp.Or(in.Title, in.Name)
	about, _ := in.Schema["description"].(string)
	if options, known := render.Options(in, o); known && len(options) > 0 && in.Picks != "zones" {
		return selection(title, about, options, into)
	}
	if about == "" {
		about = in.Name + ": " + in.Shape.Describe()
	}
	field := huh.NewInput().Title(title).Description(about).Value(into).Validate(func(text string) error {
		if in.Secret {
			if strings.HasPrefix(text, "secret:") {
				return nil // a reference; the service holds it against the rules
			}
			if broken := in.Rules.Check(text); len(broken) > 0 {
				return errors.New(strings.Join(broken, "; "))
			}
			return nil
		}
		v, err := answered(in, text)
		if err != nil {
			return err
		}
		for _, fault := range in.Validate(v) {
			return errors.New(fault.Message)
		}
		return nil
	})
	if in.Secret {
		field = field.EchoMode(huh.EchoModePassword)
	}
	if options, known := render.Options(in, o); known && in.Picks == "zones" {
		var names []string
		for _, x := range options {
			names = append(names, x.Value)
		}
		field = field.Description("several, with commas between them; offered are " + strings.Join(names, ", "))
	}
	return field
}

// answered reads a typed answer as an inputs file would be read. A list may be written
// without brackets.
func answered(in *lang.Input, text string) (any, error) {
	if strings.TrimSpace(text) == "" {
		return nil, errors.New("it needs a value")
	}
	_, isList := in.Schema["items"]
	if (isList || in.Picks == "zones") && !strings.HasPrefix(strings.TrimSpace(text), "[") {
		text = "[" + text + "]"
	}
	nodes, found := lang.ReadInputs(in.Name, []byte(in.Name+": "+text))
	n := nodes[in.Name]
	if found.HasErrors() || n == nil {
		n = &lang.Node{Text: text, Quoted: true}
	}
	return lang.Normalise(n, in.Shape)
}
