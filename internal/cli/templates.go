package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/lang"
	"undersail/internal/core/resource"
	"undersail/internal/exchange"
	"undersail/internal/library"
	"undersail/internal/review"
	"undersail/internal/templates"
)

func (a *app) templatesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "templates",
		Short: "List the templates in the library; write, test and publish them",
		Args:  cobra.NoArgs,
		Example: "  undersail templates\n  undersail templates show gauge-intake\n  undersail templates new " +
			"site.sail.yaml --with disk,password\n  undersail templates publish site.sail.yaml",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]templates.Template](c.ListTemplates(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printTemplates(w, list) })
		}),
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.showTemplateCommand(), a.publishCommand(), a.templateInputsCommand(), a.versionsCommand(),
		a.differencesCommand(),
		a.newTemplateCommand(), a.testTemplateCommand(), a.tidyCommand(), a.schemaCommand(), a.typesCommand())
	return cmd
}

func printTemplates(w io.Writer, list []templates.Template) {
	columns(w, "TEMPLATE\tVERSION\tMATURITY\tTAKES\tFROM\tTITLE", func(row func(string, ...any)) {
		for _, t := range list {
			takes := "-"
			if t.TakesS > 0 {
				takes = resource.FormatSpan(t.TakesS)
			}
			row("%s\t%s\t%s\t%s\t%s\t%s", t.Name, t.Version, t.Maturity, takes, review.OrDash(t.Origin), t.Title)
		}
	})
}

func (a *app) showTemplateCommand() *cobra.Command {
	var draw string
	cmd := &cobra.Command{
		Use:   "show NAME[@VERSION]|FILE",
		Short: "Print the text of a template, or draw it",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail templates show gauge-intake@^1\n  undersail templates show gauge-intake --graph svg " +
			"> intake.svg",
		RunE: func(cmd *cobra.Command, args []string) error {
			if draw != "" {
				t, err := a.readTemplate(cmd, args[0])
				if err != nil {
					return err
				}
				return drawGraph(cmd.OutOrStdout(), draw, exchange.OfTemplate(t))
			}
			t, err := a.template(cmd, args[0])
			if err != nil {
				return err
			}
			return a.print(cmd, t, func(w io.Writer) { io.WriteString(w, t.Source) })
		},
	}
	cmd.Flags().StringVar(&draw, "graph", "", "draw what needs what instead, as svg, dot or mermaid")
	a.libraryFlag(cmd)
	a.outputFlag(cmd)
	return cmd
}

func (a *app) publishCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "publish FILE",
		Short: "Check a template and put it into the library",
		Args:  cobra.ExactArgs(1),
		Long: "Check a template and put it into the library, with all that it embeds. Ranges such " +
			"as\ngauge-edge@^2 resolve now and are kept with it, so its bytes never change their meaning. The " +
			"cases\nthat stand beside it in NAME.cases.yaml are kept too, and run.",
		Example: "  undersail templates publish site.sail.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := a.bundle(cmd, args[0])
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := decode[templates.Template](c.PublishTemplate(cmd.Context(), b))
			if err != nil {
				return a.told(cmd, err)
			}
			runs, err := a.saveCases(cmd, c, args[0], t)
			if err != nil {
				return err
			}
			return a.print(cmd, t, func(w io.Writer) {
				fmt.Fprintf(w, "%s %s is in the library\n", t.Name, t.Version)
				switch n := len(runs.Cases); {
				case n == 0:
				case n == runs.Holding:
					fmt.Fprintf(w, "its cases are saved with it, and all %d hold\n", n)
				default:
					fmt.Fprintf(w, "its cases are saved with it, and %d of %d fail: undersail templates test %s\n",
						n-runs.Holding, n, t.Name)
				}
			})
		},
	}
	a.outputFlag(cmd)
	return cmd
}

// saveCases keeps the cases that stand beside a template file.
func (a *app) saveCases(cmd *cobra.Command, c *contract.Client, file string,
	t templates.Template) (templates.CaseRuns, error) {
	var runs templates.CaseRuns
	files, err := library.Dir(filepath.Dir(file))
	if err != nil {
		return runs, &exit{exitUsage, err}
	}
	beside, err := library.ReadCases(files, filepath.Base(file))
	if err != nil {
		return runs, &exit{exitUsage, err}
	}
	if beside == nil {
		return runs, nil
	}
	if runs, err = decode[templates.CaseRuns](c.SaveCases(cmd.Context(), t.Name+"@"+t.Version, *beside)); err != nil {
		return runs, a.told(cmd, err)
	}
	return runs, nil
}

func (a *app) templateInputsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "inputs NAME|FILE",
		Short: "Write a commented inputs file to fill in",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail templates inputs gauge-intake > intake.inputs.yaml\n  undersail templates inputs " +
			"site.sail.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			return exchange.InputsFile(cmd.OutOrStdout(), t)
		},
	}
	a.libraryFlag(cmd)
	return cmd
}

func (a *app) versionsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "versions NAME",
		Short:   "List every version of a template, newest first",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail templates versions gauge-intake",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			list, err := decode[[]templates.Template](c.ListVersions(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) { printTemplates(w, list) })
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) differencesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "differences A B",
		Short: "Tell what changed between two versions of a template",
		Args:  cobra.ExactArgs(2),
		Example: "  undersail templates differences gauge-intake@1.3.0 gauge-intake@1.4.0\n  undersail templates " +
			"differences gauge-intake ./gauge-intake.sail.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			before, err := a.readTemplate(cmd, args[0])
			if err != nil {
				return err
			}
			after, err := a.readTemplate(cmd, args[1])
			if err != nil {
				return err
			}
			list := lang.Differences(before, after)
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(w, "they say the same")
				}
				for _, d := range list {
					fmt.Fprintf(w, "%-8s %s\n", d.Change, d.What)
					for _, line := range d.Lines {
						fmt.Fprintf(w, "         %s\n", line)
					}
				}
			})
		},
	}
	a.libraryFlag(cmd)
	a.outputFlag(cmd)
	return cmd
}

func (a *app) template(cmd *cobra.Command, ref string) (templates.Template, error) {
	c, err := a.client()
	if err != nil {
		return templates.Template{}, err
	}
	return decode[templates.Template](c.GetTemplate(cmd.Context(), ref))
}

// libraryFlag lets a command find embedded templates in a folder, so that it
// needs no service.
func (a *app) libraryFlag(cmd *cobra.Command) {
	cmd.Flags().StringVar(&a.library, "library", "",
		"folder in which templates named NAME@RANGE are found, instead of the service")
}

// bundle reads a template file with all that it embeds, or one of the library.
func (a *app) bundle(cmd *cobra.Command, arg string) (lang.Bundle, error) {
	if !isFile(arg) {
		if a.library != "" {
			b, err := a.fetch(cmd)(arg)
			b.Ref = ""
			if errors.Is(err, library.ErrUnknown) {
				err = fmt.Errorf("folder %s has no template %s", a.library, arg)
			}
			return b, asUsage(err)
		}
		t, err := a.template(cmd, arg)
		b := t.Bundle()
		b.File = t.Name + library.Suffix
		return b, err
	}
	if _, err := os.Stat(arg); err != nil {
		return lang.Bundle{File: arg}, &exit{exitUsage, err}
	}
	dir, file := filepath.Split(arg)
	if dir == "" {
		dir = "."
	}
	files, err := library.Dir(dir)
	if err != nil {
		return lang.Bundle{}, &exit{exitUsage, err}
	}
	b, err := library.Read(files, file, a.fetch(cmd))
	if dir != "." {
		prefixFiles(&b, filepath.ToSlash(filepath.Clean(dir)))
	}
	b.File = arg
	return b, asUsage(err)
}

func asUsage(err error) error {
	var e *exit
	if err == nil || errors.As(err, &e) {
		return err
	}
	return &exit{exitUsage, err}
}

// prefixFiles names files as seen from where the command was called.
func prefixFiles(b *lang.Bundle, dir string) {
	for i := range b.Parts {
		p := &b.Parts[i]
		if !strings.Contains(p.Ref, "@") {
			p.File = dir + "/" + p.File
			prefixFiles(p, dir)
		}
	}
}

// fetch finds templates that others embed: in the folder named with --library,
// else in the service, if there is one to ask.
func (a *app) fetch(cmd *cobra.Command) library.Fetch {
	if a.library != "" {
		files, err := library.Dir(a.library)
		if err != nil {
			return func(string) (lang.Bundle, error) { return lang.Bundle{}, &exit{exitUsage, err} }
		}
		return library.FromFolder(files)
	}
	return func(ref string) (lang.Bundle, error) {
		t, err := a.template(cmd, ref)
		if err != nil {
			return lang.Bundle{}, fmt.Errorf("%s: %w", ref, library.ErrUnknown)
		}
		return t.Bundle(), nil
	}
}
