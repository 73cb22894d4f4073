package cli

import (
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/review"
	"undersail/internal/templates"
)

func (a *app) librariesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "libraries",
		Short: "List the folders and git repositories that templates come from; add and refresh them",
		Args:  cobra.NoArgs,
		Example: "  undersail libraries\n  undersail libraries add tide-office --at " +
			"https://git.saltmere.example/templates --reference main\n  undersail libraries refresh tide-office",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]templates.Library](c.ListLibraries(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "LIBRARY\tAT\tREFERENCE\tREVISION\tREAD\tPROBLEM", func(row func(string, ...any)) {
					for _, l := range list {
						read := "-"
						if l.RefreshedAt != nil {
							read = l.RefreshedAt.Local().Format("2006-01-02 15:04")
						}
						row("%s\t%s\t%s\t%.12s\t%s\t%s", l.Name, l.Place, review.OrDash(l.Reference),
							review.OrDash(l.Revision), read, review.OrDash(l.Problem))
					}
				})
			})
		}),
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.addLibraryCommand(), a.refreshLibraryCommand())
	return cmd
}

func (a *app) addLibraryCommand() *cobra.Command {
	var n templates.NewLibrary
	var file string
	cmd := &cobra.Command{
		Use:   "add NAME",
		Short: "Read a folder or a git repository and keep it as a library",
		Args:  cobra.ExactArgs(1),
		Long: "Read the templates (*.sail.yaml) at the top of a folder or of a git repository and publish " +
			"them.\nA version once published never changes its bytes.",
		Example: "  undersail libraries add tide-office --at https://git.saltmere.example/templates --reference " +
			"v2.1.0 --folder stacks",
		RunE: func(cmd *cobra.Command, args []string) error {
			n.Name = args[0]
			c, err := a.client()
			if err != nil {
				return err
			}
			if n.User != "" {
				if n.Token, err = secretValue(cmd, "token: ", file); err != nil {
					return err
				}
			}
			l, err := decode[templates.Library](c.AddLibrary(cmd.Context(), n))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.print(cmd, l, func(w io.Writer) { printLibrary(w, l) })
		},
	}
	cmd.Flags().StringVar(&n.Place, "at", "", "URL of a git repository, or a folder that the service may read")
	cmd.Flags().StringVar(&n.Reference, "reference", "", "branch, tag or commit; the default branch when left out")
	cmd.Flags().StringVar(&n.Folder, "folder", "", "folder within it; its top when left out")
	cmd.Flags().StringVar(&n.User, "user", "",
		"user to sign in as; the token is asked for, or read from standard input or --file, and sealed")
	cmd.Flags().StringVar(&file, "file", "", "with --user: file to read the token from")
	cmd.MarkFlagRequired("at")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) refreshLibraryCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "refresh NAME",
		Short:   "Read a library again and publish the versions that are new",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail libraries refresh tide-office",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			l, err := decode[templates.Library](c.RefreshLibrary(cmd.Context(), args[0]))
			if err != nil {
				return a.told(cmd, err)
			}
			return a.print(cmd, l, func(w io.Writer) { printLibrary(w, l) })
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func printLibrary(w io.Writer, l templates.Library) {
	at := ""
	if l.Revision != "" {
		at = fmt.Sprintf(" at commit %.12s", l.Revision)
	}
	fmt.Fprintf(w, "library %s%s\n\n", l.Name, at)
	columns(w, "FILE\tTEMPLATE\tVERSION\tSTATE\tPROBLEM", func(row func(string, ...any)) {
		for _, t := range l.Templates {
			row("%s\t%s\t%s\t%s\t%s", t.File, review.OrDash(t.Name), review.OrDash(t.Version), t.State,
				review.OrDash(t.Problem))
		}
	})
}
