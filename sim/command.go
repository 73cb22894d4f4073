package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"undersail/sim/world"
)

// Command is the whole command line of the simulator.
func Command() *cobra.Command {
	root := &cobra.Command{Use: "simcloud", Short: "Simulated public clouds to try Under Sail on", SilenceUsage: true}
	dir := root.PersistentFlags().String("dir", defaultDir(), "directory with the simulator's state")
	root.AddCommand(runCommand(dir), ledgerCommand(dir), faultCommand(dir), deleteCommand(dir), changeCommand(dir))
	return root
}

func defaultDir() string {
	if d := os.Getenv("SIMCLOUD_DIR"); d != "" {
		return d
	}
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	return filepath.Join(cache, "simcloud")
}

func runCommand(dir *string) *cobra.Command {
	var c Config
	cmd := &cobra.Command{Use: "run", Short: "Run the clouds until interrupted", Args: cobra.NoArgs,
		Example: "  simcloud run --dir state --accounts saltmere-lab --pace 60",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c.Dir = *dir
			r, err := Start(c)
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "ready  larch %s  admin %s  one real second is %g cloud seconds\n",
				r.Place.Larch, r.Place.Admin, r.Place.Pace)
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			<-ctx.Done()
			return r.Close()
		}}
	f := cmd.Flags()
	f.StringSliceVar(&c.Accounts, "accounts", []string{"saltmere-live", "saltmere-lab"}, "accounts to have")
	f.Float64Var(&c.Pace, "pace", 60, "cloud seconds in a real second")
	f.Uint64Var(&c.Seed, "seed", 1, "seed of the jitter of durations")
	f.StringVar(&c.Market, "market", "", "market file to use instead of the standard one")
	f.Float64Var(&c.Rate, "rate", 0, "calls a second that an account may make; 0 for the usual 40")
	f.IntVar(&c.Port, "port", 0, "port of Larch; 0 takes a free one")
	return cmd
}

func ledgerCommand(dir *string) *cobra.Command {
	var output, tag string
	var calls bool
	cmd := &cobra.Command{
		Use:     "ledger",
		Short:   "Print every resource alive and every call received",
		Args:    cobra.NoArgs,
		Example: "  simcloud ledger\n  simcloud ledger --tag undersail-stack:warning-site -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var l world.Ledger
			if err := ask(*dir, http.MethodGet, "/ledger", nil, &l); err != nil {
				return err
			}
			if name, value, ok := strings.Cut(tag, ":"); ok {
				other := func(r world.LedgerResource) bool { return r.Tags[name] != value }
				l.Alive, l.Gone = slices.DeleteFunc(l.Alive, other), slices.DeleteFunc(l.Gone, other)
			}
			if output == "json" {
				return json.NewEncoder(cmd.OutOrStdout()).Encode(l)
			}
			printLedger(cmd.OutOrStdout(), l, calls)
			return nil
		},
	}
	cmd.Flags().StringVarP(&output, "output", "o", "table", "table or json")
	cmd.Flags().StringVar(&tag, "tag", "", "only resources with this tag, as NAME:VALUE")
	cmd.Flags().BoolVar(&calls, "calls", false, "print the calls too")
	return cmd
}

func printLedger(out io.Writer, l world.Ledger, calls bool) {
	t := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	fmt.Fprintln(t, "ACCOUNT\tREGION\tKIND\tID\tLABEL\tPHASE\tMADE")
	for _, r := range l.Alive {
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\t%s\t%s\t%s\n", r.Account, r.Region, r.Kind, r.ID, r.Label, r.Phase,
			r.MadeAt.Format("15:04:05"))
	}
	t.Flush()
	fmt.Fprintf(out, "%d alive, %d made and removed, %d calls\n", len(l.Alive), len(l.Gone), len(l.Calls))
	if calls {
		for _, c := range l.Calls {
			fmt.Fprintf(out, "%s  %-6s %d  %s %s %s\n", c.At.Format("15:04:05.000"), c.Method, c.Status, c.Account,
				c.Path, c.Fault)
		}
	}
}

func faultCommand(dir *string) *cobra.Command {
	cmd := &cobra.Command{Use: "fault", Short: "Plan and lift faults"}
	var f world.Fault
	var kinds strings.Builder
	for _, k := range slices.Sorted(maps.Keys(world.FaultKinds)) {
		fmt.Fprintf(&kinds, "  %-14s %s\n", k, world.FaultKinds[k])
	}
	add := &cobra.Command{
		Use:   "add KIND",
		Short: "Plan a fault",
		Long:  "Plan a fault. The kinds are:\n\n" + kinds.String(),
		Args:  cobra.ExactArgs(1),
		Example: "  simcloud fault add service-never --label worker[1] --count -1\n  simcloud fault add lose-answer " +
			"--on instances --method PUT",
		RunE: func(cmd *cobra.Command, args []string) error {
			f.Kind = args[0]
			if err := ask(*dir, http.MethodPost, "/faults", f, &f); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "fault %d is planned; lift it with: simcloud fault lift %d\n", f.ID, f.ID)
			return nil
		},
	}
	add.Flags().StringVar(&f.Account, "account", "", "only calls of this account")
	add.Flags().StringVar(&f.On, "on", "", "only this kind of resource, such as instances")
	add.Flags().StringVar(&f.Label, "label", "", "only resources whose label contains this")
	add.Flags().StringVar(&f.Method, "method", "", "only calls with this method")
	add.Flags().IntVar(&f.Count, "count", 1, "how often it strikes; -1 for always")
	add.Flags().IntVar(&f.Seconds, "seconds", 1, "real seconds, for slow and throttle")
	add.Flags().Int64Var(&f.Value, "value", 0, "the limit, for quota")
	list := &cobra.Command{
		Use:   "list",
		Short: "List planned faults as JSON",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var all []world.Fault
			if err := ask(*dir, http.MethodGet, "/faults", nil, &all); err != nil {
				return err
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(all)
		},
	}
	lift := &cobra.Command{
		Use:   "lift [ID]",
		Short: "Lift one fault, or all",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/faults"
			if len(args) == 1 {
				path += "?id=" + args[0]
			}
			var left []world.Fault
			if err := ask(*dir, http.MethodDelete, path, nil, &left); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%d faults are still planned\n", len(left))
			return nil
		},
	}
	cmd.AddCommand(add, list, lift)
	return cmd
}

func deleteCommand(dir *string) *cobra.Command {
	var force bool
	cmd := &cobra.Command{
		Use:     "delete ID|LABEL",
		Short:   "Delete a resource by hand, past the product",
		Args:    cobra.ExactArgs(1),
		Example: "  simcloud delete vm-0a1b2c3d4e\n  simcloud delete site-web_rules --force",
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/resources/" + url.PathEscape(args[0])
			if force {
				path += "?force"
			}
			if err := ask(*dir, http.MethodDelete, path, nil, &struct{}{}); err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is deleted\n", args[0])
			return nil
		},
	}
	cmd.Flags().BoolVar(&force, "force", false, "delete it although others use it")
	return cmd
}

func changeCommand(dir *string) *cobra.Command {
	return &cobra.Command{
		Use:   "change ID|LABEL PROPERTY=JSON...",
		Short: "Change properties of a resource by hand, past the product",
		Args:  cobra.MinimumNArgs(2),
		Long:  "Change properties of a resource by hand, past the product. The value null takes a property away.",
		Example: `  simcloud change site-web_rules 'inbound=[{"source": "0.0.0.0/0", "port": 22}]'` +
			"\n  simcloud change vm-0a1b2c3d4e firewall_ids=null",
		RunE: func(cmd *cobra.Command, args []string) error {
			properties := map[string]any{}
			for _, arg := range args[1:] {
				name, text, ok := strings.Cut(arg, "=")
				var v any
				if err := json.Unmarshal([]byte(text), &v); !ok || err != nil {
					return fmt.Errorf("%q is not PROPERTY=JSON, such as gib=40", arg)
				}
				properties[name] = v
			}
			err := ask(*dir, http.MethodPatch, "/resources/"+url.PathEscape(args[0]), properties, &struct{}{})
			if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s is changed\n", args[0])
			return nil
		},
	}
}

func ask(dir, method, path string, in, out any) error {
	place, err := ReadPlace(dir)
	if err != nil {
		return err
	}
	var body bytes.Buffer
	if in != nil {
		if err := json.NewEncoder(&body).Encode(in); err != nil {
			return fmt.Errorf("asking the demo: %w", err)
		}
	}
	req, err := http.NewRequest(method, place.Admin+path, &body)
	if err != nil {
		return fmt.Errorf("asking the demo: %w", err)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return fmt.Errorf("the simulator of %s does not answer; start it with: simcloud run --dir %s", dir, dir)
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		text, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		return fmt.Errorf("%s", strings.TrimSpace(string(text)))
	}
	return json.NewDecoder(res.Body).Decode(out)
}
