package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/cloud/registry"
	"undersail/internal/review"
)

func (a *app) accountsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "accounts", Short: "List the accounts of clouds", Args: cobra.NoArgs, Example: "  undersail accounts\n  undersail accounts add saltmere-lab --cloud larch --endpoint http://127.0.0.1:9000 --client-id ID",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			list, err := decode[[]accounts.Account](c.ListAccounts(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ACCOUNT\tCLOUD\tSTACKS\tCREDENTIALS END\tREGIONS", func(row func(string, ...any)) {
					for _, x := range list {
						end := endOf(x.CredentialsEnd, "-")
						if x.ClosedAt != nil {
							end = "closed " + x.ClosedAt.Local().Format(time.DateOnly)
						}
						row("%s\t%s\t%d\t%s\t%s", x.Name, x.Cloud, x.Stacks, end, strings.Join(x.Regions, ", "))
					}
				})
			})
		}}
	a.outputFlag(cmd)
	cmd.AddCommand(a.accountsAddCommand(), a.accountsShowCommand(), a.accountsTestCommand(), a.accountsRenewCommand(), a.accountsSetCommand(), a.accountsPricesCommand(), a.accountsRemoveCommand(), a.accountsRangesCommand(), a.accountsLimitCommand())
	return cmd
}

func (a *app) accountsAddCommand() *cobra.Command {
	var n accounts.NewAccount
	var file string
	var second bool
	var from credentialsFrom
	cmd := &cobra.Command{Use: "add NAME", Short: "Add an account, or renew its credentials", Args: cobra.ExactArgs(1),
		Long: `Add an account of a cloud, or renew its credentials. They are tested first. Of Larch the client secret is asked
for, or read from standard input or a file. Of an OpenStack cloud endpoint and credentials come from an entry
of a clouds.yaml, or from the usual environment (OS_AUTH_URL and so on).`,
		Example: "  undersail accounts add saltmere-lab --cloud larch --endpoint http://127.0.0.1:9000 --client-id ID < secret\n  undersail accounts add harbour --cloud openstack --clouds-file clouds.yaml --entry harbour\n  undersail accounts add harbour --cloud openstack --from-environment",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			n.Name = args[0]
			switch given, err := from.read(n.Cloud, &n.Endpoint, &n.Credentials); {
			case err != nil:
				return err
			case given:
			case n.Endpoint == "" || n.ClientID == "":
				return &exit{exitUsage, errors.New("name where the credentials are: --endpoint and --client-id, --clouds-file, or --from-environment")}
			default:
				if n.ClientSecret, err = secretValue(cmd, "client secret: ", file); err != nil {
					return err
				}
			}
			added, err := decode[accounts.Account](c.AddAccount(cmd.Context(), n))
			if err != nil {
				return err
			}
			if second {
				if _, err := decode[accounts.Detail](c.BoundAccount(cmd.Context(), added.Name, accounts.Bounds{SecondPerson: &second})); err != nil {
					return err
				}
			}
			return a.print(cmd, added, func(w io.Writer) {
				fmt.Fprintf(w, "account %s of %s is added; its regions are %s\n", added.Name, added.Cloud, strings.Join(added.Regions, ", "))
			})
		}}
	cmd.Flags().StringVar(&n.Cloud, "cloud", "larch", "which cloud: "+strings.Join(registry.Names(), ", "))
	cmd.Flags().StringVar(&n.Endpoint, "endpoint", "", "URL of the cloud's API")
	cmd.Flags().StringVar(&n.ClientID, "client-id", "", "client id of the credentials")
	cmd.Flags().StringVar(&file, "file", "", "file to read the client secret from")
	cmd.Flags().BoolVar(&second, "second-person", false, "somebody else than its author accepts a proposal there")
	from.flags(cmd)
	a.outputFlag(cmd)
	return cmd
}

// credentialsFrom is where credentials stand that the trade keeps in forms of its own.
type credentialsFrom struct {
	file, entry string
	environment bool
}

func (f *credentialsFrom) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.file, "clouds-file", "", "a clouds.yaml with endpoint and credentials")
	cmd.Flags().StringVar(&f.entry, "entry", "", "which entry of it")
	cmd.Flags().BoolVar(&f.environment, "from-environment", false, "take endpoint and credentials from OS_AUTH_URL and so on")
}

// read takes them from there; false says that nothing of the kind was asked.
func (f *credentialsFrom) read(cloud string, endpoint *string, fields *map[string]string) (bool, error) {
	if f.file == "" && !f.environment {
		return false, nil
	}
	if f.file != "" && f.entry == "" {
		return false, &exit{exitUsage, errors.New("name the entry of the file with --entry")}
	}
	at, credentials, err := registry.Read(cloud, registry.Source{File: f.file, Entry: f.entry, Environment: os.Getenv})
	if err != nil {
		return false, &exit{exitUsage, err}
	}
	if *endpoint == "" {
		*endpoint = at
	}
	*fields = credentials
	return true, nil
}

func (a *app) accountsRangesCommand() *cobra.Command {
	var add, remove, about string
	cmd := &cobra.Command{Use: "ranges ACCOUNT", Short: "Show and declare ranges that networks of the account must not overlap", Args: cobra.ExactArgs(1),
		Long:    "Show the ranges of peers and of the premises that are declared for an account. Networks that overlap\none of them are refused, and free ranges are drawn beside them.",
		Example: "  undersail accounts ranges saltmere-lab\n  undersail accounts ranges saltmere-lab --add 10.200.0.0/16 --about 'the tide office, Saltmere'\n  undersail accounts ranges saltmere-lab --remove 10.200.0.0/16",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var list []accounts.Range
			switch {
			case add != "" && remove != "":
				return &exit{exitUsage, fmt.Errorf("either --add or --remove")}
			case add != "":
				list, err = decode[[]accounts.Range](c.DeclareRange(cmd.Context(), args[0], contract.NewRange{Range: add, About: &about}))
			case remove != "":
				list, err = decode[[]accounts.Range](c.RemoveRange(cmd.Context(), args[0], &contract.RemoveRangeParams{Range: remove}))
			default:
				list, err = decode[[]accounts.Range](c.ListRanges(cmd.Context(), args[0]))
			}
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				if len(list) == 0 {
					fmt.Fprintf(w, "no ranges are declared for account %s\n", args[0])
					return
				}
				columns(w, "RANGE\tBY\tABOUT", func(row func(string, ...any)) {
					for _, x := range list {
						row("%s\t%s\t%s", x.Range, x.By, review.OrDash(x.About))
					}
				})
			})
		}}
	cmd.Flags().StringVar(&add, "add", "", "range to declare, such as 10.200.0.0/16")
	cmd.Flags().StringVar(&about, "about", "", "whose it is")
	cmd.Flags().StringVar(&remove, "remove", "", "range to take back")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsLimitCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "limit ACCOUNT AMOUNT|none", Short: "Set above which cost of a month proposals ask for a consent", Args: cobra.ExactArgs(2),
		Example: "  undersail accounts limit saltmere-lab 400\n  undersail accounts limit saltmere-lab none",
		RunE: func(cmd *cobra.Command, args []string) error {
			var limit contract.MonthLimit
			if args[1] != "none" {
				amount, err := strconv.ParseFloat(args[1], 64)
				if err != nil || amount < 0 {
					return &exit{exitUsage, fmt.Errorf("give an amount of money or none, not %q", args[1])}
				}
				limit.MostMonth = &amount
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			account, err := decode[accounts.Account](c.LimitAccount(cmd.Context(), args[0], limit))
			if err != nil {
				return err
			}
			return a.print(cmd, account, func(w io.Writer) {
				if account.MostMonth == nil {
					fmt.Fprintf(w, "proposals of account %s ask for no consent to their cost\n", account.Name)
					return
				}
				fmt.Fprintf(w, "proposals of account %s that cost more than %.0f a month ask for the consent `cost`\n", account.Name, *account.MostMonth)
			})
		}}
	a.outputFlag(cmd)
	return cmd
}
