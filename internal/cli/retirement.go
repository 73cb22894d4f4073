package cli

import (
	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/proposing"
)

func (a *app) retireCommand() *cobra.Command {
	var d atOnce
	var keep, lift []string
	cmd := &cobra.Command{
		Use:   "retire STACK",
		Short: "Propose the removal of a whole stack, dependents first",
		Args:  cobra.ExactArgs(1),
		Example: "  undersail retire warning-site\n  undersail retire readings-archive --yes --agree lose-data " +
			"--watch\n  undersail retire readings-archive --keep store",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			var params contract.RetireStackParams
			if len(keep) > 0 {
				params.Keep = &keep
			}
			if len(lift) > 0 {
				params.LiftGuard = &lift
			}
			p, err := decode[proposing.Proposal](c.RetireStack(cmd.Context(), args[0], &params))
			return a.proposedAtOnce(cmd, c, p, err, d)
		}),
	}
	a.atOnceFlags(cmd, &d)
	keepFlag(cmd, &keep)
	liftFlag(cmd, &lift)
	return cmd
}

// liftFlag names what goes although it is guarded.
func liftFlag(cmd *cobra.Command, lift *[]string) {
	cmd.Flags().StringArrayVar(lift, "lift-guard", nil,
		"guarded resource that may be rebuilt or removed for this once; asks for the consent lift-guard")
}

// keepFlag names what stays in the cloud.
func keepFlag(cmd *cobra.Command, keep *[]string) {
	cmd.Flags().StringArrayVar(keep, "keep", nil,
		"resource that stays in the cloud when it leaves the stack, with what it comes after; see undersail kept")
}
