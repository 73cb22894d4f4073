package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/secretrule"
	"undersail/internal/proposing"
	"undersail/internal/review"
	"undersail/internal/secrets"
)

func (a *app) secretsCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "secrets",
		Short: "List, make and rotate secrets that stand for themselves",
		Args:  cobra.NoArgs,
		Long: `List the secrets that stand for themselves, beside those of stacks. An input takes one as secret:NAME, or one
version as secret:NAME@VERSION. Values are never shown: undersail reveal hands one over.`,
		Example: "  undersail secrets\n  undersail secrets make db-password --length 24 --kinds " +
			"small,capital,digit\n  undersail secrets add licence-key < key.txt\n  undersail secrets rotate " +
			"db-password --propose\n  undersail propose archive --input password=secret:db-password",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.listSecrets(cmd, "secret") },
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.secretShowCommand(), a.secretMakeCommand(), a.secretAddCommand(), a.secretRotateCommand(),
		a.secretRemoveCommand())
	return cmd
}

func (a *app) keyPairsCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "key-pairs", Short: "List, make and import SSH key pairs", Args: cobra.NoArgs,
		Long: `List the key pairs that stand for themselves, beside those that templates draw. An input takes the public
half of one as key:NAME. The private half of one that was made here stays sealed; connect signs with it.`,
		Example: "  undersail key-pairs\n  undersail key-pairs make duty\n  undersail key-pairs import ines < " +
			"~/.ssh/id_ed25519.pub",
		RunE: func(cmd *cobra.Command, _ []string) error { return a.listSecrets(cmd, "key_pair") }}
	a.outputFlag(cmd)
	cmd.AddCommand(a.keyPairCommand("make NAME", "Draw an Ed25519 pair and seal its private half", false),
		a.keyPairCommand("import NAME", "Keep the public half of a pair, from standard input", true),
		a.secretRemoveCommand())
	return cmd
}

func (a *app) listSecrets(cmd *cobra.Command, kind string) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	all, err := decode[[]secrets.Named](c.ListSecrets(cmd.Context()))
	if err != nil {
		return err
	}
	list := []secrets.Named{}
	for _, n := range all {
		if (n.Kind == "secret") == (kind == "secret") {
			list = append(list, n)
		}
	}
	return a.print(cmd, list, func(w io.Writer) {
		columns(w, "NAME\tVERSION\tBELONGS TO\tFROM\tBY\tSINCE\tUSED BY\tABOUT", func(row func(string, ...any)) {
			for _, n := range list {
				v := n.Versions[0]
				from := v.From
				if n.Kind == "public_key" {
					from = "public half"
				}
				row("%s\t%d\t%s\t%s\t%s\t%s\t%s\t%s", n.Name, n.Version, belongsTo(n), from, review.OrDash(v.GivenBy),
					v.GivenAt.Local().Format("2006-01-02 15:04"), review.OrDash(usesOf(n)), review.OrDash(n.About))
			}
		})
	})
}

// belongsTo says who may read a secret beside whoever gave it.
func belongsTo(n secrets.Named) string { return cmp.Or(n.Account, "the service") }

// usesOf names the stacks that use a secret, with the version where it is an older one.
func usesOf(n secrets.Named) string {
	var out []string
	for _, v := range n.Versions {
		for _, u := range v.Uses {
			text := u.Stack
			if v.Version != n.Version {
				text += fmt.Sprintf(" (@%d)", v.Version)
			}
			out = append(out, text)
		}
	}
	return strings.Join(out, ", ")
}

func (a *app) secretShowCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "show NAME",
		Short:   "Show the versions of a secret and which stacks use them",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail secrets show db-password",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			n, err := decode[secrets.Named](c.ShowSecret(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(cmd, n, func(w io.Writer) { printNamed(w, n) })
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func printNamed(w io.Writer, n secrets.Named) {
	fmt.Fprintf(w, "%s: %s", n.Name, strings.ReplaceAll(n.Kind, "_", " "))
	if n.About != "" {
		fmt.Fprintf(w, ", %s", n.About)
	}
	fmt.Fprintf(w, ", belongs to %s\n", belongsTo(n))
	if n.Public != "" {
		fmt.Fprintln(w, n.Public)
	}
	fmt.Fprintln(w)
	columns(w, "VERSION\tFROM\tBY\tSINCE\tUSED BY", func(row func(string, ...any)) {
		for _, v := range n.Versions {
			var uses []string
			for _, u := range v.Uses {
				uses = append(uses, u.Stack+" ("+u.Input+")")
			}
			row("%d\t%s\t%s\t%s\t%s", v.Version, v.From, review.OrDash(v.GivenBy),
				v.GivenAt.Local().Format("2006-01-02 15:04"), review.OrDash(strings.Join(uses, ", ")))
		}
	})
}

// belongsFlag says where a new secret belongs.
func belongsFlag(cmd *cobra.Command, account *string) {
	cmd.Flags().StringVar(account, "account", "",
		"account that it belongs to, where whoever administers that may read it; left out, your only one, or "+
			"whoever administers the service")
}

// ruleFlags are the rules that a secret is drawn by.
func ruleFlags(cmd *cobra.Command, r *secretrule.Rules) {
	cmd.Flags().IntVar(&r.Length, "length", 0, "least number of characters; 20 when left out")
	cmd.Flags().StringSliceVar(&r.Kinds, "kinds", nil,
		"kinds of characters that must be there: small, capital, digit, sign")
	cmd.Flags().StringSliceVar(&r.Forbid, "without", nil, "texts that must not be there")
}

func (a *app) putSecret(cmd *cobra.Command, n secrets.NewNamed) (secrets.Named, error) {
	c, err := a.client()
	if err != nil {
		return secrets.Named{}, err
	}
	kept, err := decode[secrets.Named](c.PutSecret(cmd.Context(), n))
	if err != nil {
		return kept, err
	}
	return kept, a.print(cmd, kept, func(w io.Writer) {
		kind := strings.ReplaceAll(strings.ReplaceAll(kept.Kind, "public_key", "key_pair"), "_", " ")
		as := "secret:" + kept.Name
		if kept.Kind != "secret" {
			as = "key:" + kept.Name
		}
		fmt.Fprintf(w, "%s %s@%d is kept; an input takes it as %s\n", kind, kept.Name, kept.Version, as)
		if kept.Public != "" {
			fmt.Fprintln(w, kept.Public)
		}
	})
}

func (a *app) secretMakeCommand() *cobra.Command {
	var rules secretrule.Rules
	var about, account string
	cmd := &cobra.Command{
		Use:     "make NAME",
		Short:   "Draw a secret by rules and seal it",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail secrets make db-password --length 24 --kinds small,capital,digit,sign",
		RunE: func(cmd *cobra.Command, args []string) error {
			_, err := a.putSecret(cmd, secrets.NewNamed{
				Name:    args[0],
				Kind:    "secret",
				Account: account,
				About:   about,
				Rules:   &rules,
			})
			return err
		},
	}
	ruleFlags(cmd, &rules)
	cmd.Flags().StringVar(&about, "about", "", "what it is for")
	belongsFlag(cmd, &account)
	a.outputFlag(cmd)
	return cmd
}

func (a *app) secretAddCommand() *cobra.Command {
	var file, about, account string
	cmd := &cobra.Command{Use: "add NAME", Short: "Seal a secret that somebody else made", Args: cobra.ExactArgs(1),
		Long: "Seal a secret that somebody else made: asked for on a terminal, else read from standard input or " +
			"a file. It is\nnever an argument. One line break at the end is left out.",
		Example: "  undersail secrets add licence-key < key.txt\n  undersail secrets add licence-key --file key.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			value, err := secretValue(cmd, "secret: ", file)
			if err != nil {
				return err
			}
			_, err = a.putSecret(cmd, secrets.NewNamed{
				Name:    args[0],
				Kind:    "secret",
				Account: account,
				About:   about,
				Value:   value,
			})
			return err
		}}
	cmd.Flags().StringVar(&file, "file", "", "file to read it from")
	cmd.Flags().StringVar(&about, "about", "", "what it is for")
	belongsFlag(cmd, &account)
	a.outputFlag(cmd)
	return cmd
}

// secretValue reads a secret from a file, a terminal without echo, or standard input.
func secretValue(cmd *cobra.Command, prompt, file string) (string, error) {
	var data []byte
	var err error
	switch {
	case file != "":
		data, err = os.ReadFile(file)
	case isTerminal(cmd.InOrStdin()):
		return askSecret(cmd, prompt)
	default:
		data, err = io.ReadAll(io.LimitReader(cmd.InOrStdin(), 1<<20))
	}
	if err != nil {
		return "", &exit{exitUsage, err}
	}
	value := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	if value == "" {
		return "", &exit{exitUsage, errors.New("the secret is empty; give it on standard input or with --file")}
	}
	return value, nil
}

func (a *app) secretRotateCommand() *cobra.Command {
	var rules secretrule.Rules
	var file string
	var given, propose bool
	cmd := &cobra.Command{
		Use:   "rotate NAME",
		Short: "Make the next version of a secret, and propose it to the stacks that use it",
		Args:  cobra.ExactArgs(1),
		Long: "Make the next version of a secret or key pair: drawn, or with --given or --file somebody else's. " +
			"Stacks stay at the\nversion that they have until a proposal moves them; --propose makes one for each.",
		Example: "  undersail secrets rotate db-password --propose\n  undersail secrets rotate licence-key " +
			"--given < key.txt",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := secrets.NewNamed{Name: args[0], Kind: "secret", Rotate: true, Rules: &rules}
			if given || file != "" {
				var err error
				if n.Value, err = secretValue(cmd, "secret: ", file); err != nil {
					return err
				}
				n.Rules = nil
			}
			kept, err := a.putSecret(cmd, n)
			if err != nil {
				return err
			}
			return a.moveUses(cmd, kept, propose)
		},
	}
	ruleFlags(cmd, &rules)
	cmd.Flags().BoolVar(&given, "given", false, "read the new value from standard input")
	cmd.Flags().StringVar(&file, "file", "", "read the new value from a file")
	cmd.Flags().BoolVar(&propose, "propose", false, "propose the new version to every stack that uses an older one")
	a.outputFlag(cmd)
	return cmd
}

// moveUses proposes the newest version to the stacks that use an older one, or says which
// these are.
func (a *app) moveUses(cmd *cobra.Command, n secrets.Named, propose bool) error {
	inputs := map[string]map[string]any{}
	var order []string
	for _, v := range n.Versions {
		for _, u := range v.Uses {
			if v.Version == n.Version {
				continue
			}
			if inputs[u.Stack] == nil {
				inputs[u.Stack] = map[string]any{}
				order = append(order, u.Stack)
			}
			inputs[u.Stack][u.Input] = "secret:" + n.Name
		}
	}
	for _, stack := range order {
		if !propose {
			fmt.Fprintf(cmd.ErrOrStderr(), "stack %s uses an older version; move it with: undersail propose %s", stack,
				stack)
			for input := range inputs[stack] {
				fmt.Fprintf(cmd.ErrOrStderr(), " --input %s=secret:%s", input, n.Name)
			}
			fmt.Fprintln(cmd.ErrOrStderr())
			continue
		}
		c, err := a.client()
		if err != nil {
			return err
		}
		p, err := decode[proposing.Proposal](c.Propose(cmd.Context(), proposing.NewProposal{
			Stack:  stack,
			Inputs: inputs[stack],
		}))
		if err != nil {
			return a.told(cmd, err)
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "stack %s: proposal %d moves it (%s); read it with: undersail proposals %d\n",
			stack, p.ID, p.Summary, p.ID)
	}
	return nil
}

func (a *app) secretRemoveCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "remove NAME",
		Short:   "Forget one that no stack uses, with all its versions",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail secrets remove db-password",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if _, err := decode[struct{}](c.RemoveSecret(cmd.Context(), args[0])); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is forgotten\n", args[0])
			return nil
		}),
	}
}

func (a *app) keyPairCommand(use, short string, imported bool) *cobra.Command {
	var about, account string
	cmd := &cobra.Command{
		Use:     use,
		Short:   short,
		Args:    cobra.ExactArgs(1),
		Example: "  undersail key-pairs make duty --about 'the officers on duty'",
		RunE: func(cmd *cobra.Command, args []string) error {
			n := secrets.NewNamed{Name: args[0], Kind: "key_pair", Account: account, About: about}
			if imported {
				line, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), 20_000))
				if err != nil {
					return &exit{exitUsage, err}
				}
				if n.Public = strings.TrimSpace(string(line)); strings.Contains(n.Public, "PRIVATE KEY") {
					return &exit{exitUsage, errors.New("that is a private key, which was not sent; give its public " +
						"half, the file that ends in .pub")}
				}
				if n.Public == "" {
					return &exit{exitUsage, errors.New("give the public half on standard input, such as: < " +
						"~/.ssh/id_ed25519.pub")}
				}
			}
			_, err := a.putSecret(cmd, n)
			return err
		},
	}
	cmd.Flags().StringVar(&about, "about", "", "whose it is")
	belongsFlag(cmd, &account)
	a.outputFlag(cmd)
	return cmd
}
