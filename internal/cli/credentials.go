package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/cloud/registry"
)

func (a *app) accountsRenewCommand() *cobra.Command {
	var id, file string
	var from credentialsFrom
	cmd := &cobra.Command{Use: "renew NAME", Short: "Give an account new credentials; runs that wait for them go on", Args: cobra.ExactArgs(1),
		Long:    "Give an account new credentials for the cloud and endpoint that it has. The client secret is asked for, or read\nfrom standard input or a file; of an OpenStack cloud all of them come from a clouds.yaml or the environment. Runs that\nwere parked because the old credentials ended go on.",
		Example: "  undersail accounts renew saltmere-lab < secret\n  undersail accounts renew saltmere-lab --client-id NEW --file secret\n  undersail accounts renew harbour --clouds-file clouds.yaml --entry harbour",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			var renewed contract.RenewedCredentials
			endpoint, fields := "", map[string]string{}
			given, err := from.read("openstack", &endpoint, &fields)
			if err != nil {
				return err
			}
			if given {
				renewed.Credentials = &fields
			} else {
				secret, err := secretValue(cmd, "client secret: ", file)
				if err != nil {
					return err
				}
				renewed.ClientSecret = &secret
			}
			if id != "" {
				renewed.ClientId = &id
			}
			d, err := decode[accounts.Detail](c.RenewAccount(cmd.Context(), args[0], renewed))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) {
				fmt.Fprintf(w, "account %s has new credentials; they end: %s\n", d.Name, endOf(d.CredentialsEnd, "never, says the cloud"))
			})
		}}
	cmd.Flags().StringVar(&id, "client-id", "", "client id; the one that it has when left out")
	from.flags(cmd)
	cmd.Flags().StringVar(&file, "file", "", "file to read the client secret from")
	a.outputFlag(cmd)
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

func (f *credentialsFrom) flags(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.file, "clouds-file", "", "a clouds.yaml with endpoint and credentials")
	cmd.Flags().StringVar(&f.entry, "entry", "", "which entry of it")
	cmd.Flags().BoolVar(&f.environment, "from-environment", false, "take endpoint and credentials from OS_AUTH_URL and so on")
}
