package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/api/contract"
	"undersail/internal/core/resource"
	"undersail/internal/people"
	"undersail/internal/review"
)

const rolesHelp = `Roles, each for the whole service (operator) or in one account (operator@saltmere-live):
  viewer    reads
  operator  reads, proposes, applies, connects to machines
  reviewer  reads, accepts and refuses proposals
  keeper    reads, publishes templates and policies; for the whole service only
  admin     all of that, and accounts, secrets of others, people
Whoever has roles only in accounts sees nothing of the others.`

func (a *app) usersCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "users",
		Short: "Who may do what, and who is invited",
		Args:  cobra.NoArgs,
		Long:  "List people, with their roles. " + rolesHelp,
		Example: "  undersail users\n  undersail users invite tomas --role reviewer\n  undersail users roles tomas " +
			"reviewer operator@saltmere-lab",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			list, err := decode[[]people.Person](c.ListUsers(cmd.Context()))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "NAME\tCALLED\tROLES\tSTATE\tSIGNS IN BY\tLAST SIGN-IN", func(row func(string, ...any)) {
					for _, p := range list {
						row("%s\t%s\t%s\t%s\t%s\t%s", p.Name, review.OrDash(p.FullName),
							review.OrDash(strings.Join(p.Roles, ", ")), stateOfPerson(p), p.SignsInBy,
							endOf(p.SignedInAt, "never"))
					}
				})
			})
		}),
	}
	a.outputFlag(cmd)
	cmd.AddCommand(a.usersInviteCommand(), a.usersLinkCommand(), a.usersRolesCommand(),
		a.usersDisableCommand("disable"), a.usersDisableCommand("enable"), a.usersSignOutCommand())
	return cmd
}

func stateOfPerson(p people.Person) string {
	if p.InvitedUntil != nil {
		return p.State + ", link until " + p.InvitedUntil.Local().Format("2006-01-02 15:04")
	}
	return p.State
}

func (a *app) usersInviteCommand() *cobra.Command {
	var n people.NewPerson
	cmd := &cobra.Command{
		Use:   "invite NAME --role ROLE",
		Short: "Make a user, with a link that sets a password once",
		Args:  cobra.ExactArgs(1),
		Long: "Make a user and print a link for them. It sets a password, works once, and lasts three days: hand it " +
			"over on a\nway that only they read. " + rolesHelp,
		Example: `  undersail users invite tomas --called "Tomas Holm" --role reviewer
  undersail users invite oda --role operator@saltmere-lab --role viewer`,
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			n.Name = args[0]
			return a.invited(cmd, args[0])(decode[people.Invitation](c.InviteUser(cmd.Context(), n)))
		}),
	}
	cmd.Flags().StringVar(&n.FullName, "called", "", "what they are called")
	cmd.Flags().StringArrayVar(&n.Roles, "role", nil, "role, or role@account; may be given again")
	cmd.MarkFlagRequired("role")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) invited(cmd *cobra.Command, name string) func(people.Invitation, error) error {
	return func(i people.Invitation, err error) error {
		if err != nil {
			return err
		}
		return a.print(cmd, i, func(w io.Writer) {
			fmt.Fprintln(w, i.Link)
			fmt.Fprintf(cmd.ErrOrStderr(),
				"%s sets a password with this link, once, until %s; or in a terminal with: undersail login URL "+
					"--invited\n", name, i.ExpiresAt.Local().Format("2006-01-02 15:04"))
		})
	}
}

func (a *app) usersLinkCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "link NAME",
		Short: "A new link that sets a password once, for whoever lost theirs",
		Args:  cobra.ExactArgs(1),
		Long: "Print a new link for a user, in the place of any before. Their password holds until the link is " +
			"used; then all\ntheir sessions end.",
		Example: "  undersail users link tomas",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			return a.invited(cmd, args[0])(decode[people.Invitation](c.LinkUser(cmd.Context(), args[0])))
		}),
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) usersRolesCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:     "roles NAME ROLE...",
		Short:   "Give a user these roles in the place of those of now",
		Args:    cobra.MinimumNArgs(2),
		Long:    "Give a user these roles in the place of those of now. " + rolesHelp,
		Example: "  undersail users roles tomas reviewer operator@saltmere-lab",
		RunE: func(cmd *cobra.Command, args []string) error {
			roles := args[1:]
			return a.changeUser(cmd, args[0], people.PersonChange{Roles: &roles})
		},
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) changeUser(cmd *cobra.Command, name string, change people.PersonChange) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	p, err := decode[people.Person](c.ChangeUser(cmd.Context(), name, change))
	if err != nil {
		return err
	}
	return a.print(cmd, p, func(w io.Writer) {
		fmt.Fprintf(w, "%s is %s: %s\n", p.Name, stateOfPerson(p), strings.Join(p.Roles, ", "))
	})
}

func (a *app) usersDisableCommand(verb string) *cobra.Command {
	disabled := verb == "disable"
	short, long := "Let a user sign in again",
		"Let a user sign in again who was disabled. Their roles are as they were; tokens and sessions they "+
			"had are gone."
	if disabled {
		short, long = "Keep a user out: every session and token ends at once",
			"Keep a user from signing in. Every session and token of theirs ends at once, with the streams that are "+
				"open.\nWhat they did stays in the audit, and their runs go on."
	}
	cmd := &cobra.Command{
		Use:     verb + " NAME",
		Short:   short,
		Long:    long,
		Args:    cobra.ExactArgs(1),
		Example: "  undersail users " + verb + " tomas",
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.changeUser(cmd, args[0], people.PersonChange{Disabled: &disabled})
		},
	}
	a.outputFlag(cmd)
	return cmd
}

func (a *app) usersSignOutCommand() *cobra.Command {
	var p contract.SignOutEverywhereParams
	var tokens bool
	cmd := &cobra.Command{
		Use:     "sign-out NAME",
		Short:   "End all sessions of a user, and with --tokens their tokens",
		Args:    cobra.ExactArgs(1),
		Example: "  undersail users sign-out tomas --tokens",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			p.Tokens = &tokens
			if _, err := decode[struct{}](c.SignOutEverywhere(cmd.Context(), args[0], &p)); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is signed out everywhere\n", args[0])
			return nil
		}),
	}
	cmd.Flags().BoolVar(&tokens, "tokens", false, "end their tokens too")
	return cmd
}

func (a *app) tokensCommand() *cobra.Command {
	var owner string
	var everybody bool
	cmd := &cobra.Command{
		Use:   "tokens",
		Short: "Tokens for programs, and sessions",
		Args:  cobra.NoArgs,
		Long: "List your tokens and sessions that are not over: when they end, when they were used last, and " +
			"from where. An\nadministrator may look at those of others.",
		Example: "  undersail tokens\n  undersail tokens add nightly-checks --role viewer --for 90d\n  undersail " +
			"tokens revoke 12",
		RunE: a.asking(func(cmd *cobra.Command, _ []string, c *contract.Client) error {
			var q contract.ListTokensParams
			if everybody {
				owner = "*"
			}
			if owner != "" {
				q.Owner = &owner
			}
			list, err := decode[[]people.Token](c.ListTokens(cmd.Context(), &q))
			if err != nil {
				return err
			}
			return a.print(cmd, list, func(w io.Writer) {
				columns(w, "ID\tOWNER\tKIND\tFOR\tROLES\tENDS\tLAST USED\tFROM", func(row func(string, ...any)) {
					for _, t := range list {
						row("%d\t%s\t%s\t%s\t%s\t%s\t%s\t%s", t.ID, t.Owner, kindOfToken(t), t.About, rolesOfToken(t),
							endOf(&t.ExpiresAt, ""), lastUse(t), review.OrDash(t.UsedFrom))
					}
				})
			})
		}),
	}
	cmd.Flags().StringVar(&owner, "of", "", "those of this user")
	cmd.Flags().BoolVar(&everybody, "all", false, "those of everybody")
	cmd.MarkFlagsMutuallyExclusive("of", "all")
	a.outputFlag(cmd)
	cmd.AddCommand(a.tokensAddCommand(), a.tokensRevokeCommand())
	return cmd
}

// lastUse is when a token was used last; one that nobody used yet came from nowhere.
func lastUse(t people.Token) string {
	if t.UsedFrom == "" {
		return "not yet"
	}
	return t.UsedAt.Local().Format("2006-01-02 15:04")
}

func kindOfToken(t people.Token) string {
	kind := map[string]string{"bearer": "token"}[t.Kind]
	if kind == "" {
		kind = t.Kind
	}
	if t.This {
		kind += " (this)"
	}
	return kind
}

func rolesOfToken(t people.Token) string {
	if t.Roles == nil {
		return "all of the owner's"
	}
	return strings.Join(t.Roles, ", ")
}

func (a *app) tokensAddCommand() *cobra.Command {
	var roles []string
	var life string
	cmd := &cobra.Command{
		Use:   "add NAME --for TIME",
		Short: "Make a token for a program; it is printed once",
		Args:  cobra.ExactArgs(1),
		Long: "Make a bearer token and print it, this once. It allows no more than you may: with --role less than " +
			"that, and what\nyou lose it loses too. " + rolesHelp,
		Example: `  undersail tokens add nightly-checks --role operator@saltmere-lab --for 90d
  UNDERSAIL_TOKEN=$(undersail tokens add release --for 1h) ./release`,
		RunE: func(cmd *cobra.Command, args []string) error {
			seconds, err := resource.ParseSpan(life)
			if err != nil {
				return &exit{exitUsage, fmt.Errorf("--for: %w", err)}
			}
			if slices.Contains(roles, "") {
				return &exit{exitUsage, errors.New("--role names no role")}
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			t, err := decode[people.MadeToken](c.AddToken(cmd.Context(), people.NewToken{
				About:   args[0],
				Roles:   roles,
				Seconds: seconds,
			}))
			if err != nil {
				return err
			}
			return a.print(cmd, t, func(w io.Writer) {
				fmt.Fprintln(w, t.Value)
				fmt.Fprintf(cmd.ErrOrStderr(), "token %d for %s (%s) ends %s; it is not shown again\n", t.ID, t.About,
					rolesOfToken(t.Token), endOf(&t.ExpiresAt, ""))
			})
		},
	}
	cmd.Flags().StringArrayVar(&roles, "role", nil,
		"role, or role@account, that it has; may be given again; all of yours when left out")
	cmd.Flags().StringVar(&life, "for", "", "how long it lasts, such as 90d; at most a year")
	cmd.MarkFlagRequired("for")
	a.outputFlag(cmd)
	return cmd
}

func (a *app) tokensRevokeCommand() *cobra.Command {
	return &cobra.Command{
		Use:     "revoke ID...",
		Short:   "End tokens or sessions at once, with the streams that they hold open",
		Args:    cobra.MinimumNArgs(1),
		Example: "  undersail tokens revoke 12",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			for _, arg := range args {
				var id int64
				if _, err := fmt.Sscan(arg, &id); err != nil {
					return &exit{exitUsage, fmt.Errorf("%q is not the id of a token; list them with: undersail tokens",
						arg)}
				}
				if _, err := decode[struct{}](c.RevokeToken(cmd.Context(), id)); err != nil {
					return err
				}
				fmt.Fprintf(cmd.OutOrStdout(), "token %d has ended\n", id)
			}
			return nil
		}),
	}
}
