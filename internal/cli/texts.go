package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/core/budget"
	"undersail/internal/core/cases"
	"undersail/internal/core/expr"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/exchange"
	"undersail/internal/library"
	"undersail/internal/templates"
)

func (a *app) newTemplateCommand() *cobra.Command {
	var s exchange.Starter
	var force bool
	var names []string
	for _, x := range exchange.Extras {
		names = append(names, x.Name)
	}
	cmd := &cobra.Command{Use: "new FILE", Short: "Begin a template from a few answers", Args: cobra.ExactArgs(1),
		Long: "Write a template that passes every check, to be changed from there. In a terminal what is " +
			"not\ngiven is asked; elsewhere it is left out.",
		Example: "  undersail templates new tide-board.sail.yaml\n  undersail templates new tide-board.sail.yaml " +
			"--title 'Tide board' --with public,login,disk",
		RunE: func(cmd *cobra.Command, args []string) error {
			file := args[0]
			s.Name = strings.TrimSuffix(filepath.Base(file), library.Suffix)
			if !strings.HasSuffix(file, library.Suffix) || lang.CheckRef(s.Name+"@1") != "" {
				return &exit{exitUsage, fmt.Errorf("write FILE like tide-board%s: small letters, digits and hyphens",
					library.Suffix)}
			}
			if isTerminal(cmd.InOrStdin()) && !cmd.Flags().Changed("with") {
				askStarter(cmd, &s)
			}
			for _, x := range s.With {
				if !slices.Contains(names, x) {
					hint := "it may be " + strings.Join(names, ", ")
					if close := expr.Closest(x, names); close != "" {
						hint = "did you mean " + close + "?"
					}
					return &exit{exitUsage, fmt.Errorf("--with knows no %q; %s", x, hint)}
				}
			}
			if _, err := os.Stat(file); err == nil && !force {
				return &exit{exitUsage, fmt.Errorf("%s is there already; choose another name, "+
					"or replace it with --force", file)}
			}
			var b bytes.Buffer
			if err := s.Write(&b); err != nil {
				return err
			}
			if err := os.WriteFile(file, b.Bytes(), 0o644); err != nil {
				return &exit{exitUsage, err}
			}
			fmt.Fprintf(cmd.OutOrStdout(),
				"%s is written\nnext: undersail check %s\n      undersail templates inputs %s > %s.inputs.yaml\n", file,
				file, file, s.Name)
			return nil
		}}
	cmd.Flags().StringVar(&s.Title, "title", "", "title of the template")
	cmd.Flags().StringSliceVar(&s.With, "with", nil,
		"what it has beside a network and a machine: "+strings.Join(names, ", "))
	cmd.Flags().BoolVar(&force, "force", false, "replace the file if it is there")
	return cmd
}

// askStarter asks for what was not given.
func askStarter(cmd *cobra.Command, s *exchange.Starter) {
	lines := bufio.NewScanner(cmd.InOrStdin())
	ask := func(question string) string {
		fmt.Fprint(cmd.ErrOrStderr(), question+" ")
		if !lines.Scan() {
			return ""
		}
		return strings.TrimSpace(lines.Text())
	}
	if s.Title == "" {
		s.Title = ask("Title:")
	}
	fmt.Fprintln(cmd.ErrOrStderr(), "It has a network and a machine. Beside these, yes or no:")
	for _, x := range exchange.Extras {
		if answer := strings.ToLower(ask(fmt.Sprintf("  %s (%s)?", x.Name, x.About))); strings.HasPrefix(answer, "y") {
			s.With = append(s.With, x.Name)
		}
	}
}

func (a *app) testTemplateCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "test FILE|NAME...",
		Short: "Run the cases that are kept beside a template",
		Args:  cobra.MinimumNArgs(1),
		Long: "Render each case of NAME.cases.yaml beside the template NAME.sail.yaml and tell what is " +
			"otherwise\nthan expected: findings, numbers of resources, their order, values. An error that no case " +
			"expects\nfails it. A case may name saved offers (from: undersail offers -o json) to be checked " +
			"against. Of a\ntemplate of the library, NAME or NAME@VERSION, the service runs the cases that it keeps.",
		Example: "  undersail templates test gauge-intake.sail.yaml\n  undersail templates test *.sail.yaml -o " +
			"json\n  undersail templates test gauge-intake@1.4.0",
		RunE: func(cmd *cobra.Command, args []string) error {
			var all []result
			failed := 0
			for _, arg := range args {
				run := a.runCases
				if !isFile(arg) {
					run = a.runSavedCases
				}
				results, err := run(cmd, arg, file)
				if err != nil {
					return err
				}
				for _, r := range results {
					if len(r.Failures) > 0 {
						failed++
					}
				}
				all = append(all, results...)
			}
			if err := a.print(cmd, all, func(w io.Writer) {
				for _, r := range all {
					word := "holds"
					if len(r.Failures) > 0 {
						word = "fails"
					}
					fmt.Fprintf(w, "%s  %s: %s\n", word, r.Template, r.Case)
					for _, f := range r.Failures {
						fmt.Fprintf(w, "       %s:%d: %s\n", r.File, f.Line, f.Message)
					}
				}
				fmt.Fprintf(w, "%d of %d cases hold\n", len(all)-failed, len(all))
			}); err != nil {
				return err
			}
			if failed > 0 {
				return &exit{exitFindings, nil}
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "cases", "", "file of cases; NAME.cases.yaml beside the template when left out")
	a.libraryFlag(cmd)
	a.outputFlag(cmd)
	return cmd
}

// result is what running one case gave.
type result struct {
	Template string          `json:"template"`
	File     string          `json:"file"`
	Case     string          `json:"case"`
	Failures []cases.Failure `json:"failures"`
}

func (a *app) runCases(cmd *cobra.Command, arg, file string) ([]result, error) {
	t, err := a.readTemplate(cmd, arg)
	if err != nil {
		return nil, err
	}
	if file == "" {
		file = strings.TrimSuffix(arg, library.Suffix) + cases.Suffix
	}
	source, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, &exit{exitUsage, fmt.Errorf("%s has no cases: write them into %s", arg, file)}
	}
	if err != nil {
		return nil, &exit{exitUsage, err}
	}
	list, found := cases.Read(file, source)
	printDiagnostics(cmd.ErrOrStderr(), found)
	if found.HasErrors() {
		return nil, &exit{exitFindings, fmt.Errorf("%s has %s", file, countErrors(found))}
	}
	var out []result
	for _, c := range list {
		var offers *offer.Offers
		if c.Offers != "" {
			o, err := savedOffers(filepath.Join(filepath.Dir(file), c.Offers))
			if err != nil {
				return nil, err
			}
			offers = &o
		}
		failures := cases.Run(t, c, offers, budget.Boundless())
		if failures == nil {
			failures = []cases.Failure{}
		}
		out = append(out, result{t.About.Name, file, c.Name, failures})
	}
	return out, nil
}

// runSavedCases has the service run the cases that it keeps of a published template.
func (a *app) runSavedCases(cmd *cobra.Command, ref, _ string) ([]result, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	runs, err := decode[templates.CaseRuns](c.RunCases(cmd.Context(), ref))
	if err != nil {
		return nil, a.told(cmd, err)
	}
	if len(runs.Cases) == 0 {
		return nil, &exit{exitUsage,
			fmt.Errorf("%s has no cases: publish it with a file NAME%s beside it", runs.Template, cases.Suffix)}
	}
	name, _, _ := strings.Cut(runs.Template, "@")
	var out []result
	for _, x := range runs.Cases {
		out = append(out, result{runs.Template, name + cases.Suffix, x.Name, x.Failures})
	}
	return out, nil
}

func (a *app) tidyCommand() *cobra.Command {
	var check, show bool
	cmd := &cobra.Command{
		Use:   "tidy FILE...",
		Short: "Format template files without losing comments",
		Args:  cobra.MinimumNArgs(1),
		Long: "Format files: two blanks to a level, sections and keys of resources in the usual order, no " +
			"blanks\nat line ends. Comments stay with what they stand above. What the file says never changes.",
		Example: "  undersail templates tidy *.sail.yaml\n  undersail templates tidy --check *.sail.yaml      # for " +
			"CI: exits 3 when one is not tidy",
		RunE: func(cmd *cobra.Command, args []string) error {
			untidy := 0
			for _, file := range args {
				source, err := os.ReadFile(file)
				if err != nil {
					return &exit{exitUsage, err}
				}
				tidy, found := lang.Tidy(file, source)
				if found.HasErrors() {
					printDiagnostics(cmd.ErrOrStderr(), found)
					return &exit{exitFindings, fmt.Errorf("%s has %s and stays as it is", file, countErrors(found))}
				}
				switch {
				case show:
					if _, err := cmd.OutOrStdout().Write(tidy); err != nil {
						return fmt.Errorf("showing %s: %w", file, err)
					}
				case bytes.Equal(source, tidy):
				case check:
					untidy++
					fmt.Fprintf(cmd.OutOrStdout(), "%s is not tidy\n", file)
				default:
					if err := replaceFile(file, tidy); err != nil {
						return &exit{exitUsage, err}
					}
					fmt.Fprintf(cmd.OutOrStdout(), "%s is tidied\n", file)
				}
			}
			if untidy > 0 {
				return &exit{exitFindings, nil}
			}
			return nil
		},
	}
	cmd.Flags().BoolVar(&check, "check", false, "only tell which files are not tidy")
	cmd.Flags().BoolVar(&show, "show", false, "print the tidy text and leave the file as it is")
	return cmd
}

// replaceFile puts a text in the place of a file at once: nobody sees half of it.
func replaceFile(file string, text []byte) error {
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("replacing %s: %w", file, err)
	}
	temporary, err := os.CreateTemp(filepath.Dir(file), ".tidy-*")
	if err != nil {
		return fmt.Errorf("replacing %s: %w", file, err)
	}
	defer os.Remove(temporary.Name())
	if _, err := temporary.Write(text); err != nil {
		return errors.Join(err, temporary.Close())
	}
	if err := errors.Join(temporary.Chmod(info.Mode()), temporary.Close()); err != nil {
		return err
	}
	return os.Rename(temporary.Name(), file)
}

func (a *app) schemaCommand() *cobra.Command {
	var rendering bool
	cmd := &cobra.Command{
		Use:   "schema",
		Short: "Print the JSON Schema of template files, for editors",
		Args:  cobra.NoArgs,
		Long: "Print the JSON Schema (2020-12) of template files. An editor that knows YAML completes and " +
			"checks\n*.sail.yaml files with it.",
		Example: "  undersail templates schema > undersail.schema.json\n  undersail templates schema --rendering    " +
			"  # of what render -o json prints",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if rendering {
				return exchange.RenderingSchema(cmd.OutOrStdout())
			}
			return exchange.Schema(cmd.OutOrStdout())
		},
	}
	cmd.Flags().BoolVar(&rendering, "rendering", false, "print the schema of a rendering instead")
	return cmd
}
