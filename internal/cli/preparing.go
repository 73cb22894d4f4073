package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/policy"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/service"
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
		v, err := render.Normalise(n, in.Shape)
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

func printDiagnostics(w io.Writer, list lang.Diagnostics) {
	for _, d := range list {
		fmt.Fprint(w, d.Text())
	}
}

func printFindings(w io.Writer, list []render.Finding) {
	for _, f := range list {
		fmt.Fprintf(w, "%-7s %s: %s (%s)\n", f.Severity, f.Place, f.Message, f.Code)
		if f.Remedy != "" {
			fmt.Fprintf(w, "        remedy: %s\n", f.Remedy)
		}
	}
}

// readTemplate reads a template file, or one of the library when there is no
// such file.
func (a *app) readTemplate(cmd *cobra.Command, arg string) (*lang.Template, error) {
	file, source, err := a.templateText(cmd, arg)
	if err != nil {
		return nil, err
	}
	t, found := lang.Read(file, source)
	if a.output == "json" && found.HasErrors() {
		if err := a.print(cmd, map[string]any{"diagnostics": found}, nil); err != nil {
			return nil, err
		}
	}
	printDiagnostics(cmd.ErrOrStderr(), found)
	if t == nil {
		return nil, &exit{exitFindings, fmt.Errorf("%s has %s", file, countErrors(found))}
	}
	return t, nil
}

func countErrors(found lang.Diagnostics) string {
	n := 0
	for _, d := range found {
		if d.Severity == lang.Error {
			n++
		}
	}
	if n == 1 {
		return "1 error"
	}
	return fmt.Sprintf("%d errors", n)
}

func isFile(arg string) bool {
	if info, err := os.Stat(arg); err == nil && !info.IsDir() {
		return true
	}
	return strings.HasSuffix(arg, ".yaml") || strings.ContainsRune(arg, filepath.Separator)
}

func (a *app) templateText(cmd *cobra.Command, arg string) (file string, source []byte, err error) {
	if isFile(arg) {
		source, err = os.ReadFile(arg)
		if err != nil {
			return arg, nil, &exit{exitUsage, err}
		}
		return arg, source, nil
	}
	t, err := a.template(cmd, arg)
	return t.Name + ".sail.yaml", []byte(t.Source), err
}

func (a *app) checkCommand() *cobra.Command {
	var g given
	cmd := &cobra.Command{Use: "check FILE", Short: "Check a template file; no service is needed", Args: cobra.ExactArgs(1),
		Long:    "Check a template: its text, its types, every reference, cycles. With --inputs its rendering\nis checked too, with --account and --region also against what is sold there, quotas and policy.",
		Example: "  undersail check site.sail.yaml\n  undersail check site.sail.yaml --inputs site.inputs.yaml --account saltmere-lab --region north-fell",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			findings := []render.Finding{}
			if g.files != nil || g.values != nil || g.account != "" || g.offers != "" {
				r, err := a.renderHere(cmd, t, &g)
				if err != nil {
					return err
				}
				findings = append(r.Findings, policy.Check(r)...)
			}
			if err := a.print(cmd, map[string]any{"diagnostics": []any{}, "findings": findings}, func(w io.Writer) {
				fmt.Fprintf(w, "%s %s: %d inputs, %d resources, %d outputs; no errors in the text\n", t.About.Name, t.About.Version, len(t.Inputs), len(t.Resources), len(t.Outputs))
			}); err != nil {
				return err
			}
			return failing(cmd, findings)
		}}
	g.flags(cmd)
	cmd.Flags().StringVar(&g.offers, "offers", "", "saved offers to check against (from: undersail offers -o json)")
	a.outputFlag(cmd)
	return cmd
}

func failing(cmd *cobra.Command, findings []render.Finding) error {
	printFindings(cmd.ErrOrStderr(), findings)
	if render.HasErrors(findings) {
		return &exit{exitFindings, fmt.Errorf("there are findings with errors")}
	}
	return nil
}

// renderHere renders without a service, but for the offers of a place that is
// named without saved ones.
func (a *app) renderHere(cmd *cobra.Command, t *lang.Template, g *given) (*render.Rendering, error) {
	inputs, secrets, err := g.fill(cmd, t)
	if err != nil {
		return nil, err
	}
	for name, v := range secrets {
		inputs[name] = v
	}
	request := render.Request{Template: t, Inputs: inputs, Stack: render.Stack{Name: t.About.Name, ID: render.FixedID, Account: g.account, Region: g.region}}
	var o offer.Offers
	switch {
	case g.offers != "":
		raw, err := os.ReadFile(g.offers)
		if err != nil {
			return nil, &exit{exitUsage, err}
		}
		if err := json.Unmarshal(raw, &o); err != nil {
			return nil, &exit{exitUsage, fmt.Errorf("%s holds no offers: %w", g.offers, err)}
		}
	case g.account != "" && g.region != "":
		if o, err = a.offers(cmd, g.account, g.region); err != nil {
			return nil, err
		}
	case g.account != "" || g.region != "":
		return nil, &exit{exitUsage, fmt.Errorf("--account and --region go together")}
	default:
		fmt.Fprintln(cmd.ErrOrStderr(), "note: without --account and --region nothing is checked against what is sold")
		return render.Render(request), nil
	}
	request.Offers = &o
	request.Stack.Cloud, request.Stack.Region = o.Cloud, o.Region
	if request.Stack.Account == "" {
		request.Stack.Account = o.Account
	}
	return render.Render(request), nil
}

func (a *app) renderCommand() *cobra.Command {
	var g given
	cmd := &cobra.Command{Use: "render FILE", Short: "Show the resources that a template gives with inputs, in dependency order", Args: cobra.ExactArgs(1),
		Long:    "Compute every resource of a template. What is known only after creation shows what it waits for.\nNo stack is named, so stack.id is the fixed id of zeros.",
		Example: "  undersail render gauge-intake.sail.yaml --inputs gauge-intake.inputs.yaml --account saltmere-lab --region north-fell\n  undersail render site.sail.yaml --inputs site.inputs.yaml --offers offers.json -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			r, err := a.renderHere(cmd, t, &g)
			if err != nil {
				return err
			}
			r.Findings = append(r.Findings, policy.Check(r)...)
			if err := a.print(cmd, r, func(w io.Writer) { printRendering(w, r) }); err != nil {
				return err
			}
			return failing(cmd, r.Findings)
		}}
	g.flags(cmd)
	cmd.Flags().StringVar(&g.offers, "offers", "", "saved offers to render against (from: undersail offers -o json)")
	a.outputFlag(cmd)
	return cmd
}

func printRendering(w io.Writer, r *render.Rendering) {
	fmt.Fprintf(w, "%s %s for %s in %s (rendered outside a stack; its id is the fixed one)\n\n", r.Template.Name, r.Template.Version, orDash(r.Stack.Account), orDash(r.Stack.Region))
	columns(w, "RESOURCE\tTYPE\tAFTER\tWANTED", func(row func(string, ...any)) {
		for _, res := range r.Resources {
			var after []string
			for _, x := range res.After {
				after = append(after, x.Name)
			}
			row("%s\t%s\t%s\t%s", res.Name, res.Type, orDash(clip(strings.Join(after, ", "), 44)), wantLine(res.Want))
		}
	})
	if len(r.Outputs) > 0 {
		fmt.Fprintln(w)
		columns(w, "OUTPUT\tVALUE\tABOUT", func(row func(string, ...any)) {
			for _, o := range r.Outputs {
				row("%s\t%s\t%s", o.Name, valueLine(o.Value), o.About)
			}
		})
	}
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// wantLine tells what is known of a resource on one line; what it waits for is
// told by what it comes after.
func wantLine(want map[string]any) string {
	var parts []string
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if name == "name" || name == "tags" || len(resource.Waits(want[name])) > 0 {
			continue
		}
		parts = append(parts, name+"="+clip(valueLine(want[name]), 60))
	}
	return orDash(strings.Join(parts, " "))
}

func valueLine(v any) string {
	switch t := v.(type) {
	case nil:
		return ""
	case resource.Unresolved:
		return "(" + t.String() + ")"
	case string:
		return t
	case map[string]any:
		if waits, ok := t["pending"].([]any); ok {
			var names []string
			for _, x := range waits {
				names = append(names, fmt.Sprint(x))
			}
			return "(known after " + strings.Join(names, ", ") + ")"
		}
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(raw)
}

func clip(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

func (a *app) proposeCommand() *cobra.Command {
	var g given
	var template string
	cmd := &cobra.Command{Use: "propose STACK", Short: "Work out what has to change for a stack and save it as a proposal", Args: cobra.ExactArgs(1),
		Long: "Work out what has to change: for a new stack everything, for one that exists what differs.\nFindings with errors refuse the proposal, and nothing is made.",
		Example: "  undersail propose warning-site --template warning-site --account saltmere-lab --region north-fell --inputs site.inputs.yaml\n" +
			"  undersail propose warning-site --input size=plain-4      # changes one input of a stack that exists",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := service.NewProposal{Stack: args[0], Account: g.account, Region: g.region}
			t, err := a.proposedTemplate(cmd, &n, template)
			if err != nil {
				return err
			}
			if n.Inputs, n.Secrets, err = g.fill(cmd, t); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := decode[service.Proposal](c.Propose(cmd.Context(), n))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.print(cmd, p, func(w io.Writer) { printProposal(w, p) })
		}}
	g.flags(cmd)
	cmd.Flags().StringVar(&template, "template", "", "template of the library as NAME[@VERSION], or a file")
	a.outputFlag(cmd)
	return cmd
}

// proposedTemplate finds the template to propose with: the one named, or that
// of the stack.
func (a *app) proposedTemplate(cmd *cobra.Command, n *service.NewProposal, arg string) (*lang.Template, error) {
	if arg == "" {
		c, err := a.client()
		if err != nil {
			return nil, err
		}
		st, err := decode[service.Stack](c.GetStack(cmd.Context(), n.Stack))
		if err != nil {
			return nil, err
		}
		if st.Template == "" {
			return nil, &exit{exitUsage, fmt.Errorf("stack %s was never applied; add --template", n.Stack)}
		}
		arg = st.Template
		n.Template = ""
		return a.readTemplate(cmd, arg)
	}
	t, err := a.readTemplate(cmd, arg)
	if err != nil {
		return nil, err
	}
	if isFile(arg) {
		n.Source, n.File = string(t.Source), filepath.Base(arg)
	} else {
		n.Template = arg
	}
	return t, nil
}

func printProposal(w io.Writer, p service.Proposal) {
	fmt.Fprintf(w, "Proposal %d for stack %s: %s  [%s]\n", p.ID, p.Stack, p.Summary, p.State)
	fmt.Fprintf(w, "account %s, region %s%s\n\n", p.Account, p.Region, prefixed(", template ", p.Template))
	columns(w, "CHANGE\tRESOURCE\tTYPE\tAFTER\tWHAT", func(row func(string, ...any)) {
		for _, c := range p.Changes {
			var after []string
			for _, x := range c.After {
				after = append(after, x.Name)
			}
			row("%s\t%s\t%s\t%s\t%s", c.Change, c.Resource, c.Type, orDash(clip(strings.Join(after, ", "), 44)), changeLine(c))
		}
	})
	printFields(w, p.Changes)
	fmt.Fprintf(w, "\ncost      %s\n", costLine(p.Cost, p.CostNow))
	fmt.Fprintf(w, "duration  about %s; decided by %s\n", seconds(p.Seconds), orDash(strings.Join(p.Longest, " > ")))
	if len(p.Findings) > 0 {
		fmt.Fprintln(w)
		printFindings(w, p.Findings)
	}
	switch p.State {
	case "open":
		fmt.Fprintf(w, "\nnext: undersail accept %d\n", p.ID)
	case "accepted":
		fmt.Fprintf(w, "\nnext: undersail apply %d --watch\n", p.ID)
	}
}

func prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

// changeLine tells why a resource changes, or what of it.
func changeLine(c change.Change) string {
	if c.Reason != "" {
		return c.Reason
	}
	var names []string
	for _, f := range c.Fields {
		names = append(names, f.Name)
	}
	return strings.Join(names, ", ")
}

// printFields lists every leaf that differs, with before and after.
func printFields(w io.Writer, changes []change.Change) {
	first := true
	for _, c := range changes {
		for _, f := range c.Fields {
			if first {
				fmt.Fprintln(w)
				first = false
			}
			fmt.Fprintf(w, "%s.%s (%s)\n    before  %s\n    after   %s\n", c.Resource, f.Name, f.Alter, orDash(valueLine(f.Before)), orDash(valueLine(f.After)))
		}
	}
}

func costLine(after, now price.Cost) string {
	if after.Hour == 0 && now.Hour == 0 {
		return "nothing that has a price"
	}
	s := fmt.Sprintf("%.3f %s an hour, about %.0f a month", after.Hour, after.Currency, after.Month)
	if now.Hour > 0 {
		s += fmt.Sprintf("; now %.3f an hour", now.Hour)
	}
	return s
}

func seconds(s float64) string {
	switch {
	case s >= 3600:
		return fmt.Sprintf("%dh %02dm", int(s)/3600, int(s)/60%60)
	case s >= 60:
		return fmt.Sprintf("%dm %02ds", int(s)/60, int(s)%60)
	case s >= 10:
		return fmt.Sprintf("%.0fs", s)
	}
	return fmt.Sprintf("%.1fs", s)
}

func (a *app) proposalsCommand() *cobra.Command {
	var stack string
	cmd := &cobra.Command{Use: "proposals [ID]", Short: "List proposals, or show one", Args: cobra.MaximumNArgs(1), Example: "  undersail proposals --stack warning-site\n  undersail proposals 12",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				id, err := number(args[0])
				if err != nil {
					return err
				}
				p, err := decode[service.Proposal](c.GetProposal(cmd.Context(), id))
				if err != nil {
					return err
				}
				return a.print(cmd, p, func(w io.Writer) { printProposal(w, p) })
			}
			list, err := decode[[]service.Proposal](c.ListProposals(cmd.Context(), &contract.ListProposalsParams{Stack: optional(stack)}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ID\tSTACK\tKIND\tSTATE\tCHANGES\tBY\tAT", func(row func(string, ...any)) {
					for _, p := range list {
						row("%d\t%s\t%s\t%s\t%s\t%s\t%s", p.ID, p.Stack, p.Kind, p.State, p.Summary, p.CreatedBy, p.CreatedAt.Local().Format("2006-01-02 15:04"))
					}
				})
			})
		}}
	cmd.Flags().StringVar(&stack, "stack", "", "only those of one stack")
	a.outputFlag(cmd)
	return cmd
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

func number(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, &exit{exitUsage, fmt.Errorf("%q is not an id; ids are numbers", arg)}
	}
	return id, nil
}

func (a *app) acceptCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "accept ID", Short: "Agree to a proposal", Args: cobra.ExactArgs(1), Example: "  undersail accept 12",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.decided(cmd, args[0], func(c *contract.Client, id int64) (service.Proposal, error) {
				return decode[service.Proposal](c.AcceptProposal(cmd.Context(), id))
			})
		}}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) refuseCommand() *cobra.Command {
	var why string
	cmd := &cobra.Command{Use: "refuse ID", Short: "Turn a proposal down", Args: cobra.ExactArgs(1), Example: "  undersail refuse 12 --why 'after the spring tide'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.decided(cmd, args[0], func(c *contract.Client, id int64) (service.Proposal, error) {
				return decode[service.Proposal](c.RefuseProposal(cmd.Context(), id, contract.Refusal{Why: why}))
			})
		}}
	cmd.Flags().StringVar(&why, "why", "", "the reason, for whoever proposed it")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) decided(cmd *cobra.Command, arg string, decide func(*contract.Client, int64) (service.Proposal, error)) error {
	id, err := number(arg)
	if err != nil {
		return err
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	p, err := decide(c, id)
	if err != nil {
		return err
	}
	return a.print(cmd, p, func(w io.Writer) {
		fmt.Fprintf(w, "proposal %d for stack %s is %s\n", p.ID, p.Stack, p.State)
		if p.State == "accepted" {
			fmt.Fprintf(w, "next: undersail apply %d --watch\n", p.ID)
		}
	})
}
