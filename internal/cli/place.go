package cli

import (
	"errors"
	"slices"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/core/offer"
)

// place is a region of an account, as every command takes it.
type place struct{ account, region string }

func (p *place) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&p.account, "account", "", "account that is meant; list them with: undersail accounts")
	cmd.Flags().StringVar(&p.region, "region", "", "region of the account")
}

// settled has the place as it is given; whoever sits before the command chooses what they left
// out. Of a region that is missing elsewhere the service tells those that there are.
func (p *place) settled(a *app, cmd *cobra.Command, c *contract.Client) error {
	if err := p.choose(a, cmd, c); err != nil {
		return err
	}
	if p.account == "" {
		return &exit{exitUsage, errors.New("name the account with --account; list them with: undersail accounts")}
	}
	return nil
}

func (p *place) choose(a *app, cmd *cobra.Command, c *contract.Client) error {
	if p.account != "" && p.region != "" || !a.interactive(cmd) {
		return nil
	}
	list, err := decode[[]accounts.Account](c.ListAccounts(cmd.Context()))
	if err != nil {
		return err
	}
	if p.account == "" {
		var options []offer.Option
		for _, x := range list {
			options = append(options, offer.Option{Value: x.Name, About: x.Cloud})
		}
		if p.account, err = choose(cmd, "Account", options); err != nil {
			return err
		}
	}
	i := slices.IndexFunc(list, func(x accounts.Account) bool { return x.Name == p.account })
	if p.region != "" || i < 0 {
		return nil
	}
	var options []offer.Option
	for _, r := range list[i].Regions {
		options = append(options, offer.Option{Value: r})
	}
	p.region, err = choose(cmd, "Region", options)
	return err
}
