package cli

import (
	"fmt"
	"io"
	"path/filepath"

	"github.com/spf13/cobra"

	"undersail/internal/daemon"
)

// placeFlags name where a service keeps its things.
func placeFlags(cmd *cobra.Command, p *daemon.Place) {
	cmd.Flags().StringVar(&p.Dir, "dir", stateDir("service"), "directory of the service")
	cmd.Flags().StringVar(&p.DatabaseURL, "database-url", "", "PostgreSQL of the service, where it has none of its own")
	cmd.Flags().StringVar(&p.MigrateURL, "migrate-url", "",
		"the same database for the role that owns its tables, where it is another")
	cmd.Flags().StringVar(&p.KeyFile, "key-file", "", "file of the sealing key; in --dir when left out")
}

func (a *app) backupCommand() *cobra.Command {
	var p daemon.Place
	var to, keyTo string
	cmd := &cobra.Command{
		Use:   "backup --to FILE",
		Short: "Write the database to a file, and apart from it the sealing key",
		Args:  cobra.NoArgs,
		Long: `Write the database of a service to a new file, as it is at one moment; the service may run meanwhile. With
--key-to the sealing key goes to another new file. Keep the two apart: with both, every secret can be read,
and without the key none.`,
		Example: "  undersail backup --dir /var/lib/undersail --to /backup/undersail.dump\n  undersail backup --to " +
			"undersail.dump --key-to /media/safe/undersail.key",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := daemon.Backup(cmd.Context(), p, to, keyTo); err != nil {
				return &exit{exitFailed, err}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "the database is in %s\n", to)
			if keyTo != "" {
				fmt.Fprintf(cmd.OutOrStdout(), "the key that opens it is in %s; keep it elsewhere\n", keyTo)
			} else {
				fmt.Fprintln(cmd.ErrOrStderr(),
					"the sealing key is not in it, and without it nothing sealed can be opened; --key-to writes it "+
						"to a file of its own")
			}
			return nil
		},
	}
	placeFlags(cmd, &p)
	cmd.Flags().StringVar(&to, "to", "", "new file for the database")
	cmd.Flags().StringVar(&keyTo, "key-to", "", "new file for the sealing key")
	cmd.MarkFlagRequired("to")
	return cmd
}

func (a *app) restoreCommand() *cobra.Command {
	var p daemon.Place
	var from, key string
	cmd := &cobra.Command{
		Use:   "restore --from FILE --key FILE",
		Short: "Fill a new service from a backup and its key",
		Args:  cobra.NoArgs,
		Long: "Fill a new service from a backup and the sealing key that belongs to it, on this machine or " +
			"another, and open\nevery sealed value once. Start it with: undersail serve --dir DIR",
		Example: "  undersail restore --dir /var/lib/undersail --from /backup/undersail.dump --key " +
			"/media/safe/undersail.key",
		RunE: func(cmd *cobra.Command, _ []string) error {
			got, err := daemon.Restore(cmd.Context(), p, from, key)
			if err != nil {
				return &exit{exitFailed, err}
			}
			return a.print(cmd, got, func(w io.Writer) {
				fmt.Fprintf(w, "restored: %d accounts, %d stacks; all %d sealed values open\nthe audit's head is "+
					"%s\nnext: undersail serve --dir %s; it is quiet, and changes nothing, until one of the copies "+
					"goes on: --in-charge\n", got.Accounts, got.Stacks, got.Sealed, got.Audit, filepath.Clean(p.Dir))
			})
		},
	}
	placeFlags(cmd, &p)
	cmd.Flags().StringVar(&from, "from", "", "file of the backup")
	cmd.Flags().StringVar(&key, "key", "", "file of the sealing key")
	cmd.MarkFlagRequired("from")
	cmd.MarkFlagRequired("key")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) rotateKeyCommand() *cobra.Command {
	var p daemon.Place
	cmd := &cobra.Command{Use: "rotate-key", Short: "Seal everything with a new sealing key", Args: cobra.NoArgs,
		Long: `Make a new sealing key and seal everything with it. It may be interrupted at any time, and goes on when it is
called again; until then the key file holds both. Services on this key file may run meanwhile; those that have
a copy of it must be given the new one.`,
		Example: "  undersail rotate-key --dir /var/lib/undersail",
		RunE: func(cmd *cobra.Command, _ []string) error {
			n, fingerprint, err := daemon.RotateKey(cmd.Context(), p)
			if err != nil {
				return &exit{exitFailed, err}
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d values are sealed with the new key %s; keep a copy of it elsewhere\n", n,
				fingerprint)
			return nil
		}}
	placeFlags(cmd, &p)
	return cmd
}
