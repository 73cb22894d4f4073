package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
	"undersail/internal/service"
)

func (a *app) accountsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "accounts", Short: "List the accounts of clouds", Args: cobra.NoArgs, Example: "  undersail accounts\n  undersail accounts add saltmere-lab --cloud larch --endpoint http://127.0.0.1:9000 --client-id ID",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := decode[[]service.Account](c.ListAccounts(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ACCOUNT\tCLOUD\tSTACKS\tREGIONS", func(row func(string, ...any)) {
					for _, x := range list {
						row("%s\t%s\t%d\t%s", x.Name, x.Cloud, x.Stacks, strings.Join(x.Regions, ", "))
					}
				})
			})
		}}
	a.outputFlag(cmd)
	cmd.AddCommand(a.accountsAddCommand())
	return cmd
}

func (a *app) accountsAddCommand() *cobra.Command {
	var n service.NewAccount
	cmd := &cobra.Command{Use: "add NAME", Short: "Add an account, or renew its credentials", Args: cobra.ExactArgs(1),
		Long:    "Add an account of a cloud, or renew its credentials. The client secret is asked for, or read from standard input.",
		Example: "  undersail accounts add saltmere-lab --cloud larch --endpoint http://127.0.0.1:9000 --client-id ID < secret",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			n.Name = args[0]
			if n.ClientSecret, err = askSecret(cmd, "client secret: "); err != nil {
				return err
			}
			added, err := decode[service.Account](c.AddAccount(cmd.Context(), n))
			if err != nil {
				return err
			}
			return a.print(cmd, added, func(w io.Writer) {
				fmt.Fprintf(w, "account %s of %s is added; its regions are %s\n", added.Name, added.Cloud, strings.Join(added.Regions, ", "))
			})
		}}
	cmd.Flags().StringVar(&n.Cloud, "cloud", "larch", "which cloud")
	cmd.Flags().StringVar(&n.Endpoint, "endpoint", "", "URL of the cloud's API")
	cmd.Flags().StringVar(&n.ClientID, "client-id", "", "client id of the credentials")
	cmd.MarkFlagRequired("endpoint")
	cmd.MarkFlagRequired("client-id")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) offersCommand() *cobra.Command {
	var region string
	cmd := &cobra.Command{Use: "offers ACCOUNT --region REGION", Short: "Show what a region sells an account, with prices and quotas", Args: cobra.ExactArgs(1),
		Example: "  undersail offers saltmere-lab --region north-fell\n  undersail offers saltmere-lab --region north-fell -o json > offers.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := a.offers(cmd, args[0], region)
			if err != nil {
				return err
			}
			return a.print(cmd, o, func(w io.Writer) { printOffers(w, o) })
		}}
	cmd.Flags().StringVar(&region, "region", "", "region to ask about")
	cmd.MarkFlagRequired("region")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) offers(cmd *cobra.Command, account, region string) (offer.Offers, error) {
	c, err := a.client()
	if err != nil {
		return offer.Offers{}, err
	}
	return decode[offer.Offers](c.GetOffers(cmd.Context(), account, &contract.GetOffersParams{Region: region}))
}

func printOffers(w io.Writer, o offer.Offers) {
	fmt.Fprintf(w, "%s, region %s, zones %s; prices in %s per hour\n\n", o.Cloud, o.Region, strings.Join(o.Zones, ", "), o.Currency)
	columns(w, "SIZE\tFAMILY\tVCPUS\tMEMORY\tPRICE\tSOLD IN", func(row func(string, ...any)) {
		for _, s := range o.Sizes {
			where := "not sold here"
			switch {
			case s.Withdrawn:
				where = "no longer sold"
			case len(s.Zones) == len(o.Zones):
				where = "every zone"
			case len(s.Zones) > 0:
				where = strings.Join(s.Zones, ", ")
			}
			row("%s\t%s\t%d\t%s\t%.4f\t%s", s.Name, s.Family, s.VCPUs, resource.FormatData(s.MemoryBytes), s.Hour, where)
		}
	})
	fmt.Fprintln(w)
	columns(w, "DISK TYPE\tPRICE OF A GIB\tFROM\tTO\tABOUT", func(row func(string, ...any)) {
		for _, d := range o.DiskTypes {
			row("%s\t%.6f\t%s\t%s\t%s", d.Name, d.GiBHour, resource.FormatData(d.MinBytes), resource.FormatData(d.MaxBytes), d.About)
		}
	})
	fmt.Fprintln(w)
	columns(w, "QUOTA\tUSED\tLIMIT", func(row func(string, ...any)) {
		for _, name := range []string{"networks", "addresses", "vcpus", "disk_gib"} {
			if q, ok := o.Quotas[name]; ok {
				row("%s\t%d\t%d", name, q.Used, q.Limit)
			}
		}
	})
}
