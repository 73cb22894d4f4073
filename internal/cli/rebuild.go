package cli

import (
	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/proposing"
)

func (a *app) rebuildCommand() *cobra.Command {
	var d atOnce
	var lift []string
	cmd := &cobra.Command{
		Use:   "rebuild STACK NAME...",
		Short: "Propose to make something of a stack anew, such as what broke or what the cloud never finishes",
		Args:  cobra.MinimumNArgs(2),
		Long: "Propose to make resources of a stack anew although nothing of them changes: each is made again " +
			"under a token of its\nown, and the old one is removed. What uses them follows, as with every rebuild; " +
			"what serves, and data that is lost, ask for consents.",
		Example: "  undersail rebuild warning-site gateway\n  undersail rebuild tide-queue worker[2] --yes --agree " +
			"rebuild --watch",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			p, err := decode[proposing.Proposal](c.Propose(cmd.Context(), proposing.NewProposal{
				Stack:     args[0],
				Rebuild:   args[1:],
				LiftGuard: lift,
			}))
			return a.proposedAtOnce(cmd, c, p, err, d)
		}),
	}
	a.atOnceFlags(cmd, &d)
	liftFlag(cmd, &lift)
	return cmd
}
