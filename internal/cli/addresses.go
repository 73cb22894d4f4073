package cli

import (
	"fmt"
	"io"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/api/contract"
	"undersail/internal/core/address"
	"undersail/internal/review"
)

func (a *app) addressesCommand() *cobra.Command {
	var at place
	var length int
	cmd := &cobra.Command{
		Use:   "addresses",
		Short: "Draw what is taken of the addresses of a region, and what is free",
		Args:  cobra.NoArgs,
		Long: "Draw the networks of an account with their subnets, the ranges declared for it, and what open " +
			"proposals\nwill take. With --length also name free ranges of that many bits.",
		Example: "  undersail addresses --account saltmere-lab --region north-fell\n  undersail addresses --account " +
			"saltmere-lab --region north-fell --length 20",
		RunE: a.asking(func(cmd *cobra.Command, args []string, c *contract.Client) error {
			if err := at.settled(a, cmd, c); err != nil {
				return err
			}
			params := &contract.DrawAddressesParams{Region: at.region}
			if length > 0 {
				params.Length = &length
			}
			m, err := decode[accounts.AddressMap](c.DrawAddresses(cmd.Context(), at.account, params))
			if err != nil {
				return err
			}
			return a.print(cmd, m, func(w io.Writer) { printAddresses(w, m, length) })
		}),
	}
	at.flags(cmd)
	cmd.Flags().IntVar(&length, "length", 0, "length of free ranges to name, such as 20")
	a.outputFlag(cmd)
	return cmd
}

// areaWords say what takes a range.
var areaWords = map[address.Kind]string{
	address.Network:  "network",
	address.Subnet:   "subnet",
	address.Reserved: "declared",
	address.Wanted:   "proposed",
}

func printAddresses(w io.Writer, m accounts.AddressMap, length int) {
	fmt.Fprintf(w, "account %s, region %s\n%s\n\n", m.Account, m.Region, asOf(m.At))
	if len(m.Map.Areas) == 0 {
		fmt.Fprintln(w, "nothing is taken")
	} else {
		columns(w, "RANGE\tWHAT\tADDRESSES\tUSED\tNAME", func(row func(string, ...any)) {
			for _, x := range m.Map.Areas {
				used := int64(0)
				for _, p := range x.Parts {
					used += p.Addresses
				}
				row("%s\t%s\t%d\t%s\t%s", x.Range, areaWords[x.Kind], x.Addresses,
					share(used, x.Addresses, x.Kind == address.Network), named(x))
				for _, p := range x.Parts {
					row("  %s\t%s\t%d\t%s\t%s", p.Range, areaWords[p.Kind], p.Addresses,
						share(p.Used, p.Addresses, true), named(p))
				}
				if len(x.Parts) > 0 && len(x.Free) > 0 {
					row("  %s\tfree\t%d\t-\t%s", x.Free[0], address.Count(x.Free[0]), more(len(x.Free)-1))
				}
			}
		})
	}
	fmt.Fprintln(w)
	wrapped(w, "free private ranges: "+someRanges(m.Map.Free, 6), 0)
	if length > 0 {
		wrapped(w, fmt.Sprintf("free /%d: %s", length, someRanges(m.Map.Next, 5)), 0)
	}
}

func named(x address.Area) string {
	if x.ID == "" {
		return review.OrDash(x.Name)
	}
	return x.Name + " (" + x.ID + ")"
}

func share(used, of int64, known bool) string {
	if !known || of == 0 {
		return "-"
	}
	return fmt.Sprintf("%d (%.0f%%)", used, 100*float64(used)/float64(of))
}

func more(n int) string {
	if n < 1 {
		return "-"
	}
	return fmt.Sprintf("and %d more free", n)
}

func someRanges(list []netip.Prefix, most int) string {
	if len(list) == 0 {
		return "none"
	}
	var parts []string
	for _, p := range list[:min(len(list), most)] {
		parts = append(parts, p.String())
	}
	text := strings.Join(parts, ", ")
	if len(list) > most {
		text += fmt.Sprintf(" and %d more", len(list)-most)
	}
	return text
}
