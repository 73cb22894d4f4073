package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/cloud"
	"undersail/internal/cloud/registry"
)

func (a *app) accountsRenewCommand() *cobra.Command {
	var from credentialsFrom
	cmd := &cobra.Command{
		Use:   "renew NAME",
		Short: "Give an account new credentials; runs that wait for them go on",
		Args:  cobra.ExactArgs(1),
		Long: "Give an account new credentials for the cloud and endpoint that it has. What is secret is asked " +
			"for, or read\nfrom standard input or a file; where the trade keeps credentials in a form of its own, " +
			"all of them come from there.\nRuns that were parked because the old credentials ended go on.",
		Example: "  undersail accounts renew saltmere-lab < secret\n  undersail accounts renew saltmere-lab " +
			"--client-id NEW --file secret\n  undersail accounts renew harbour --clouds-file clouds.yaml " +
			"--entry harbour",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			before, err := decode[accounts.Detail](c.ShowAccount(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			_, fields, err := from.read(cmd, before.Cloud, before.Endpoint, true)
			if err != nil {
				return err
			}
			d, err := decode[accounts.Detail](c.RenewAccount(cmd.Context(), args[0], contract.RenewedCredentials{
				Credentials: fields,
			}))
			if err != nil {
				return err
			}
			return a.print(cmd, d, func(w io.Writer) {
				fmt.Fprintf(w, "account %s has new credentials; they end: %s\n", d.Name,
					endOf(d.CredentialsEnd, "never, says the cloud"))
			})
		}),
	}
	from.flags(cmd)
	a.outputFlag(cmd)
	return cmd
}

func (a *app) accountsAddCommand() *cobra.Command {
	var n accounts.NewAccount
	var second bool
	var from credentialsFrom
	cmd := &cobra.Command{Use: "add NAME", Short: "Add an account, or renew its credentials", Args: cobra.ExactArgs(1),
		Long: `Add an account of a cloud, or renew its credentials. They are tested first. What is secret is asked for, or
read from standard input or a file. Where the trade keeps endpoint and credentials in a form of its own,
they come from there: ` + forms() + `.`,
		Example: "  undersail accounts add saltmere-lab --cloud larch --endpoint http://127.0.0.1:9000 --client-id " +
			"ID < secret\n  undersail accounts add harbour --cloud openstack --clouds-file clouds.yaml --entry " +
			"harbour\n  undersail accounts add harbour --cloud openstack --from-environment",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			n.Name = args[0]
			if n.Endpoint, n.Credentials, err = from.read(cmd, n.Cloud, n.Endpoint, false); err != nil {
				return err
			}
			added, err := decode[accounts.Account](c.AddAccount(cmd.Context(), n))
			if err != nil {
				return err
			}
			if second {
				_, err := decode[accounts.Detail](c.BoundAccount(cmd.Context(), added.Name, accounts.Bounds{
					SecondPerson: &second,
				}))
				if err != nil {
					return err
				}
			}
			return a.print(cmd, added, func(w io.Writer) {
				fmt.Fprintf(w, "account %s of %s is added; its regions are %s\n", added.Name, added.Cloud,
					strings.Join(added.Regions, ", "))
			})
		}}
	cmd.Flags().StringVar(&n.Cloud, "cloud", registry.Names()[0], "which cloud: "+strings.Join(registry.Names(), ", "))
	cmd.Flags().StringVar(&n.Endpoint, "endpoint", "", "URL of the cloud's API")
	cmd.Flags().BoolVar(&second, "second-person", false, "somebody else than its author accepts a proposal there")
	from.flags(cmd)
	a.outputFlag(cmd)
	return cmd
}

// forms says of which clouds credentials are read in a form that the trade has.
func forms() string {
	var out []string
	for _, k := range registry.Kinds() {
		if k.Files != "" {
			out = append(out, "of "+k.Title+" "+k.Files)
		}
	}
	return strings.Join(out, "; ")
}

// credentialsFrom is where credentials stand: in a form that the trade has, or in flags, the secret
// ones on standard input or in a file.
type credentialsFrom struct {
	file, entry string
	environment bool
	secretFile  string
	given       map[string]*string // by the names of fields
}

func (f *credentialsFrom) flags(cmd *cobra.Command) {
	f.given = map[string]*string{}
	for _, k := range registry.Kinds() {
		for _, field := range k.Credentials {
			if !field.Secret && f.given[field.Name] == nil {
				f.given[field.Name] = cmd.Flags().String(flagOf(field), "", k.Title+": "+strings.ToLower(field.Label))
			}
		}
	}
	cmd.Flags().StringVar(&f.secretFile, "file", "", "file to read the secret part from")
	cmd.Flags().StringVar(&f.file, "clouds-file", "",
		"a file of the trade with endpoint and credentials, such as a clouds.yaml")
	cmd.Flags().StringVar(&f.entry, "entry", "", "which entry of it")
	cmd.Flags().BoolVar(&f.environment, "from-environment", false,
		"take endpoint and credentials from the usual variables of the environment")
}

func flagOf(f cloud.CredentialField) string { return strings.ReplaceAll(f.Name, "_", "-") }

// read gives endpoint and credentials. Those that are renewed may leave out what stays.
func (f *credentialsFrom) read(cmd *cobra.Command, name, endpoint string,
	renewed bool) (string, map[string]string, error) {
	kind, err := registry.Find(name)
	if err != nil {
		return "", nil, &exit{exitUsage, err}
	}
	for _, other := range registry.Kinds() {
		for _, x := range other.Credentials {
			if other.Name != name && !x.Secret && *f.given[x.Name] != "" {
				return "", nil, &exit{exitUsage,
					fmt.Errorf("--%s is asked for by %s, and the account is of %s", flagOf(x), other.Title, kind.Title)}
			}
		}
	}
	if f.file != "" || f.environment {
		if f.file != "" && f.entry == "" {
			return "", nil, &exit{exitUsage, errors.New("name the entry of the file with --entry")}
		}
		at, fields, err := registry.Read(name, cloud.Source{File: f.file, Entry: f.entry, Environment: os.Getenv})
		if err != nil {
			return "", nil, &exit{exitUsage, err}
		}
		return cmp.Or(endpoint, at), fields, nil
	}
	fields, missing := map[string]string{}, []string{}
	if endpoint == "" {
		missing = append(missing, "--endpoint")
	}
	for _, x := range kind.Credentials {
		if !x.Secret {
			if fields[x.Name] = *f.given[x.Name]; fields[x.Name] == "" {
				delete(fields, x.Name)
				missing = append(missing, "--"+flagOf(x))
			}
		}
	}
	if len(missing) > 0 && !renewed {
		text := "name where the credentials are: " + strings.Join(missing, " and ")
		if kind.Files != "" {
			text += ", or --clouds-file, or --from-environment"
		}
		return "", nil, &exit{exitUsage, errors.New(text)}
	}
	for _, x := range kind.Credentials {
		if x.Secret {
			if fields[x.Name], err = secretValue(cmd, strings.ToLower(x.Label)+": ", f.secretFile); err != nil {
				return "", nil, err
			}
		}
	}
	return endpoint, fields, nil
}
