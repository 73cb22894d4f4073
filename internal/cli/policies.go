package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"undersail/internal/api/contract"
	"undersail/internal/core/policy"
	"undersail/internal/review"
	"undersail/internal/stacks"
	"undersail/internal/templates"
)

const ruleHelp = `A rule is a YAML file: what it is called, what it does where its condition does not hold (forbid, warn
or ask for a consent), and the condition, a CEL expression of resource, want, tags, stack, resources, month:

  name: owner-tag
  about: everything has an owner
  does: forbid
  types: [instance, disk]
  that: has(tags.owner)
  says: it has no tag owner
  remedy: 'add tags: {owner: NAME}'`

func (a *app) policiesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "policies",
		Short: "List the organisation's rules; add, try and remove them",
		Args:  cobra.NoArgs,
		Example: "  undersail policies\n  undersail policies try owner-tag.yaml\n  undersail policies add " +
			"owner-tag.yaml\n  undersail policies show owner-tag\n  undersail policies remove owner-tag",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]templates.Policy](c.ListPolicies(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "the organisation has no rules; add one with: undersail policies add FILE")
					return
				}
				columns(w, "POLICY\tVERSION\tDOES\tOF\tBY\tSAYS", func(row func(string, ...any)) {
					for _, p := range list {
						row("%s\t%d\t%s\t%s\t%s\t%s", p.Name, p.Version, p.Does,
							review.OrDash(clip(strings.Join(p.Types, ", "), 24)), p.By, p.Says)
					}
				})
			})
		}),
	}
	a.outputFlag(cmd)
	show := &cobra.Command{
		Use:     "show NAME",
		Short:   "Show a rule with its versions",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail policies show owner-tag",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			list, err := decode[[]templates.Policy](c.ListPolicyVersions(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printPolicy(w, list) })
		}),
	}
	a.outputFlag(show)
	add := &cobra.Command{
		Use:     "add FILE",
		Short:   "Check a rule and add it as the next version of its name",
		Args:    cobra.ExactArgs(1),
		Long:    ruleHelp,
		Example: "  undersail policies add owner-tag.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			rule, err := readRule(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			p, err := decode[templates.Policy](c.AddPolicy(cmd.Context(), rule))
			if err != nil {
				return err
			}
			return a.print(cmd, p, func(w io.Writer) {
				fmt.Fprintf(w, "policy %s, version %d, holds for every proposal from now on\n", p.Name, p.Version)
			})
		},
	}
	a.outputFlag(add)
	remove := &cobra.Command{
		Use:     "remove NAME",
		Short:   "Withdraw a rule; its versions stay",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail policies remove owner-tag",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if _, err := decode[any](c.RemovePolicy(cmd.Context(), args[0])); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "policy %s holds no longer\n", args[0])
			return nil
		}),
	}
	cmd.AddCommand(show, add, a.tryPolicyCommand(), remove)
	return cmd
}

func (a *app) tryPolicyCommand() *cobra.Command {
	var of []string
	cmd := &cobra.Command{
		Use:   "try FILE",
		Short: "See what a rule would say of the stacks that run; nothing is kept",
		Args:  cobra.ExactArgs(1),
		Long:  ruleHelp,
		Example: "  undersail policies try owner-tag.yaml\n  undersail policies try owner-tag.yaml --stack " +
			"warning-site",
		RunE: func(cmd *cobra.Command, args []string) error {
			rule, err := readRule(args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := decode[[]stacks.Trial](c.TryPolicy(cmd.Context(), stacks.Tried{Policy: rule, Stacks: of}))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "it would say nothing: every stack keeps to it")
				}
				for _, t := range list {
					fmt.Fprintln(w, t.Stack)
					if t.Problem != "" {
						wrapped(w, t.Problem, 2)
					}
					printErrors(w, t.Findings)
					for _, x := range t.Consents {
						wrapped(w, "asks for the consent "+x.Name+": "+x.About, 2)
					}
				}
			})
		},
	}
	cmd.Flags().StringSliceVar(&of, "stack", nil, "only these stacks")
	a.outputFlag(cmd)
	return cmd
}

// readRule reads a rule from a file.
func readRule(file string) (policy.Rule, error) {
	var raw struct {
		Name, About, Does, That, Says, Remedy string
		Types                                 []string
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return policy.Rule{}, &exit{exitUsage, err}
	}
	if err := yaml.Load(text, &raw, yaml.WithKnownFields()); err != nil {
		return policy.Rule{}, &exit{exitUsage, fmt.Errorf("%s holds no rule: %w", file, err)}
	}
	r := policy.Rule{
		Name:   raw.Name,
		About:  raw.About,
		Does:   raw.Does,
		Types:  raw.Types,
		That:   raw.That,
		Says:   raw.Says,
		Remedy: raw.Remedy,
	}
	if _, faults := policy.Compile([]policy.Rule{r}); faults != nil {
		return r, &exit{exitFindings, fmt.Errorf("%s: %w", file, errors.Join(faults...))}
	}
	return r, nil
}

func printPolicy(w io.Writer, list []templates.Policy) {
	newest := list[0]
	fmt.Fprintf(w, "%s\n", newest.Name)
	if newest.About != "" {
		wrapped(w, newest.About, 2)
	}
	for _, p := range list {
		fmt.Fprintf(w, "\nversion %d, by %s at %s\n", p.Version, p.By, p.At.Local().Format("2006-01-02 15:04"))
		if p.Does == "nothing" {
			fmt.Fprintln(w, "  withdrawn")
			continue
		}
		for _, x := range [][2]string{
			{"does", p.Does},
			{"of", strings.Join(p.Types, ", ")},
			{"that", p.That},
			{"says", p.Says},
			{"remedy", p.Remedy},
		} {
			if x[1] != "" {
				wrapped(w, fmt.Sprintf("%-8s%s", x[0], x[1]), 2)
			}
		}
	}
}
