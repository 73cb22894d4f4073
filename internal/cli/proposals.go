package cli

import (
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/use"
	"undersail/internal/proposing"
	"undersail/internal/review"
	"undersail/internal/templates"
)

func (a *app) proposeCommand() *cobra.Command {
	var g given
	var template string
	var keep, lift, again []string
	cmd := &cobra.Command{
		Use:   "propose STACK",
		Short: "Work out what has to change for a stack and save it as a proposal",
		Args:  cobra.ExactArgs(1),
		Long: "Work out what has to change: for a new stack everything, for one that exists what differs.\nFindings " +
			"with errors refuse the proposal, and nothing is made.",
		Example: "  undersail propose warning-site --template warning-site --account saltmere-lab --region " +
			"north-fell --inputs site.inputs.yaml\n" +
			"  undersail propose warning-site --input size=plain-4      # changes one input of a stack that exists\n" +
			"  undersail propose queue --again trial                    # runs a task once more",
		RunE: func(cmd *cobra.Command, args []string) error {
			account, region := g.account, g.region
			if err := a.askPlace(cmd, args[0], &g, &template); err != nil {
				return err
			}
			n := proposing.NewProposal{
				Stack:     args[0],
				Account:   g.account,
				Region:    g.region,
				Keep:      keep,
				LiftGuard: lift,
				Again:     again,
			}
			if g.recorded != nil { // a stack that is there has its place
				n.Account, n.Region = account, region
			}
			t, err := a.proposedTemplate(cmd, &n, template)
			if err != nil {
				return err
			}
			filled, err := g.fill(cmd, t)
			a.places = filled.places
			if err != nil {
				return err
			}
			if err := a.askMissing(cmd, t, &g, &filled); err != nil {
				return err
			}
			n.Preset, n.Layers, n.Inputs, n.Secrets = g.preset, filled.files, filled.single.Inputs, filled.secrets
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := decode[proposing.Proposal](c.Propose(cmd.Context(), n))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.reviewed(cmd, p)
		},
	}
	g.flags(cmd)
	a.libraryFlag(cmd)
	cmd.Flags().StringVar(&template, "template", "", "template of the library as NAME[@VERSION], or a file")
	keepFlag(cmd, &keep)
	liftFlag(cmd, &lift)
	cmd.Flags().StringArrayVar(&again, "again", nil, "task that is run again although nothing of it changes")
	a.reviewFlag(cmd)
	return cmd
}

// proposedTemplate finds the template to propose with: the one named, or that
// of the stack.
func (a *app) proposedTemplate(cmd *cobra.Command, n *proposing.NewProposal, arg string) (*lang.Template, error) {
	if arg == "" {
		c, err := a.client()
		if err != nil {
			return nil, err
		}
		kept, err := decode[templates.Template](c.GetStackTemplate(cmd.Context(), n.Stack))
		if err != nil {
			return nil, err
		}
		t, found := lang.ReadBundle(kept.Bundle())
		if t == nil {
			return nil, found
		}
		return t, nil
	}
	t, err := a.readTemplate(cmd, arg)
	if err != nil {
		return nil, err
	}
	if isFile(arg) {
		n.Source, n.File, n.Parts = string(t.Source), filepath.Base(arg), t.Bundle.Parts
	} else {
		n.Template = arg
	}
	return t, nil
}

// reviewed prints a proposal in the chosen form, which may be Markdown.
func (a *app) reviewed(cmd *cobra.Command, p proposing.Proposal) error {
	if a.output == "markdown" {
		review.Markdown(cmd.OutOrStdout(), p)
		return nil
	}
	return a.print(cmd, p, func(w io.Writer) { a.printProposal(w, p) })
}

// reviewFlag lets a command print a proposal for programs and for reviews.
func (a *app) reviewFlag(cmd *cobra.Command) {
	cmd.Flags().StringVarP(&a.output, "output", "o", "table", "table, json, yaml or markdown (for a review)")
}

func (a *app) printProposal(w io.Writer, p proposing.Proposal) {
	if p.State == proposing.Nothing {
		fmt.Fprintf(w, "Nothing to change: stack %s is what is wanted. No proposal was made.\n", p.Stack)
		a.printFindings(w, p.Findings)
		return
	}
	fmt.Fprintf(w, "Proposal %d for stack %s: %s  [%s]\n", p.ID, p.Stack, p.Summary, p.State)
	fmt.Fprintf(w, "account %s, region %s%s\n\n", p.Account, p.Region, review.Prefixed(", template ", p.Template))
	same := 0
	columns(w, "CHANGE\tRESOURCE\tTYPE\tAFTER\tWHAT", func(row func(string, ...any)) {
		for _, c := range p.Changes {
			if c.Change == change.Same && c.Reason == "" {
				same++
				continue
			}
			var after []string
			for _, x := range c.After {
				after = append(after, x.Name)
			}
			row("%s\t%s\t%s\t%s\t%s", c.Change, c.Resource, c.Type, review.OrDash(clip(strings.Join(after, ", "), 44)),
				review.ChangeLine(c))
		}
	})
	if same > 0 {
		fmt.Fprintf(w, "%d more stay the same\n", same)
	}
	printFields(w, p.Changes)
	printUses(w, p.Uses)
	printInputs(w, p.Inputs)
	for _, c := range p.Consents {
		fmt.Fprintln(w)
		labelled(w, "consent", c.Name+": "+c.About)
		for _, line := range review.Interruptions(p.Interruptions, c.Name, p.Rate) {
			wrapped(w, line, 10)
		}
	}
	for _, c := range p.Given {
		fmt.Fprintf(w, "\nagreed    %s, by %s at %s\n", c.Name, c.By, c.At.Local().Format("2006-01-02 15:04"))
	}
	fmt.Fprintln(w)
	labelled(w, "cost", review.CostLine(p.Cost, p.CostNow))
	labelled(w, "duration", review.DurationLine(p))
	printReviewed(w, p)
	if len(p.Findings) > 0 {
		fmt.Fprintln(w)
		a.printFindings(w, p.Findings)
	}
	switch p.State {
	case "open":
		fmt.Fprintf(w, "\nnext: undersail accept %d%s\n", p.ID, agreeing(p))
	case "accepted":
		fmt.Fprintf(w, "\nnext: undersail apply %d --watch\n", p.ID)
	}
}

// printUses tells what secrets are opened for: of what is new everything that goes with
// them, of what was agreed to before where.
func printUses(w io.Writer, uses []use.Use) {
	if len(uses) == 0 {
		return
	}
	fmt.Fprintln(w, "\nWhat secrets are opened for:")
	for _, u := range uses {
		mark := "agreed"
		if u.New {
			mark = "new"
		}
		labelled(w, mark, fmt.Sprintf("%s%s, for %s: %s", u.At, review.Members(u), review.Purpose(u),
			strings.Join(u.Secrets, ", ")))
		labelled(w, "", "to "+u.To)
		if !u.New {
			continue
		}
		for _, line := range review.UseText(u) {
			labelled(w, "", "| "+line)
		}
	}
}

// printInputs tells every value with the layer that gave it.
func printInputs(w io.Writer, inputs []render.InputValue) {
	if len(inputs) == 0 {
		return
	}
	fmt.Fprintln(w)
	columns(w, "INPUT\tVALUE\tFROM", func(row func(string, ...any)) {
		for _, in := range inputs {
			value := review.Value(in.Value)
			if in.Origin == "later" {
				value = "the run asks for it"
			}
			row("%s\t%s\t%s", in.Name, review.OrDash(clip(value, 56)), in.Origin)
		}
	})
	for _, in := range inputs {
		if in.Advice != "" {
			wrapped(w, in.Name+": "+in.Advice, 0)
		}
	}
}

// printFields lists every leaf that differs, with before and after.
func printFields(w io.Writer, changes []change.Change) {
	first := true
	for _, c := range changes {
		if c.Change == change.Create && len(c.Fields) > 0 {
			printWanted(w, c, &first)
			continue
		}
		for _, f := range c.Fields {
			if first {
				fmt.Fprintln(w)
				first = false
			}
			fmt.Fprintf(w, "%s.%s (%s)\n    before  %s\n    after   %s\n", c.Resource, f.Name, f.Alter,
				review.OrDash(lines(f.Before)), review.OrDash(lines(f.After)))
		}
	}
}

// printWanted tells in one line what is wanted of a resource that is made.
func printWanted(w io.Writer, c change.Change, first *bool) {
	var parts []string
	for _, f := range c.Fields {
		text := review.InBrief(f.After)
		if _, isList := f.After.([]any); !isList { // of rules and disks each is told
			text = clip(text, 44)
		}
		parts = append(parts, f.Name+"="+text)
	}
	if *first {
		fmt.Fprintln(w)
		*first = false
	}
	wrapped(w, c.Resource+" wants "+strings.Join(parts, " "), 0)
}

// agreeing is what has to be added to accept a proposal.
func agreeing(p proposing.Proposal) string {
	text := ""
	for _, c := range p.Consents {
		text += " --agree " + c.Name
	}
	return text
}

func (a *app) proposalsCommand() *cobra.Command {
	var stack string
	cmd := &cobra.Command{
		Use:     "proposals [ID]",
		Short:   "List proposals, or show one",
		Args:    cobra.MaximumNArgs(1),
		Example: "  undersail proposals --stack warning-site\n  undersail proposals 12",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if len(args) == 1 {
				id, err := number(args[0])
				if err != nil {
					return err
				}
				p, err := decode[proposing.Proposal](c.GetProposal(cmd.Context(), id))
				if err != nil {
					return err
				}
				return a.reviewed(cmd, p)
			}
			list, err := decode[[]proposing.Proposal](c.ListProposals(cmd.Context(), &contract.ListProposalsParams{
				Stack: optional(stack),
			}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ID\tSTACK\tKIND\tSTATE\tCHANGES\tBY\tAT", func(row func(string, ...any)) {
					for _, p := range list {
						row("%d\t%s\t%s\t%s\t%s\t%s\t%s", p.ID, p.Stack, p.Kind, p.State, p.Summary, p.CreatedBy,
							p.CreatedAt.Local().Format("2006-01-02 15:04"))
					}
				})
			})
		}),
	}
	cmd.Flags().StringVar(&stack, "stack", "", "only those of one stack")
	a.reviewFlag(cmd)
	return cmd
}

func optional[T ~string](s T) *T {
	if s == "" {
		return nil
	}
	return &s
}

// clientFor gives a client for a command about one thing, with its id.
func (a *app) clientFor(arg string) (*contract.Client, int64, error) {
	id, err := number(arg)
	if err != nil {
		return nil, 0, err
	}
	c, err := a.client()
	return c, id, err
}

func number(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, &exit{exitUsage, fmt.Errorf("%q is not an id; ids are numbers", arg)}
	}
	return id, nil
}

func (a *app) acceptCommand() *cobra.Command {
	var agree []string
	var why, onFailure string
	cmd := &cobra.Command{
		Use:   "accept ID",
		Short: "Agree to a proposal",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail accept 12\n  undersail accept 12 --agree lose-data\n  undersail accept 12 --agree " +
			"secret-use=3f9c2a7d10b4e865 --on-failure undo",
		Long: `Agree to a proposal. What it asks a consent for has to be agreed to by name: without, nothing is
accepted, what is asked is told, and the exit code is 6. The consent secret-use is shown with a digest
of the uses that it is for; given as secret-use=DIGEST it is for these, and refused for any other.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.decided(cmd, args[0], func(c *contract.Client, id int64) (proposing.Proposal, error) {
				return accepted(cmd, c, id, agree, why, onFailure)
			})
		},
	}
	agreeFlag(cmd, &agree)
	cmd.Flags().StringVar(&why, "why", "", "what you want to say with it")
	cmd.Flags().StringVar(&onFailure, "on-failure", "",
		"agree with it that a run which fails is undone in your name (undo); left to whoever applies it when left out")
	a.outputFlag(cmd)
	return cmd
}

func agreeFlag(cmd *cobra.Command, agree *[]string) {
	cmd.Flags().StringSliceVar(agree, "agree", nil, "name of a consent that you give, such as lose-data")
}

func accepted(cmd *cobra.Command, c *contract.Client, id int64, agree []string,
	why, onFailure string) (proposing.Proposal, error) {
	params := &contract.AcceptProposalParams{
		Comment:   optional(why),
		OnFailure: optional(contract.AcceptProposalParamsOnFailure(onFailure)),
	}
	if len(agree) > 0 {
		params.Agree = &agree
	}
	return decode[proposing.Proposal](c.AcceptProposal(cmd.Context(), id, params))
}

func (a *app) refuseCommand() *cobra.Command {
	var why string
	cmd := &cobra.Command{
		Use:     "refuse ID",
		Short:   "Turn a proposal down",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail refuse 12 --why 'after the spring tide'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.decided(cmd, args[0], func(c *contract.Client, id int64) (proposing.Proposal, error) {
				return decode[proposing.Proposal](c.RefuseProposal(cmd.Context(), id, contract.Refusal{Why: why}))
			})
		},
	}
	cmd.Flags().StringVar(&why, "why", "", "the reason, for whoever proposed it")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) decided(cmd *cobra.Command, arg string,
	decide func(*contract.Client, int64) (proposing.Proposal, error)) error {
	c, id, err := a.clientFor(arg)
	if err != nil {
		return err
	}
	p, err := decide(c, id)
	if err != nil {
		return a.told(cmd, err)
	}
	return a.print(cmd, p, func(w io.Writer) {
		fmt.Fprintf(w, "proposal %d for stack %s is %s\n", p.ID, p.Stack, p.State)
		if p.State == "accepted" {
			fmt.Fprintf(w, "next: undersail apply %d --watch\n", p.ID)
		}
	})
}
