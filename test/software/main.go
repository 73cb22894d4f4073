// Command software reads the lists of what is shipped (CycloneDX JSON) and prints how many
// parts there are under which licence. It fails when one of them has none.
package main

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
)

// readByHand are the licences of parts whose own the tool does not recognise.
var readByHand = map[string]string{
	"github.com/oasdiff/yaml":     "MIT and BSD-3-Clause",
	"github.com/pressly/goose/v3": "MIT",
}

type licence struct {
	Expression string
	License    struct{ ID, Name string }
}

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "software:", err)
		os.Exit(1)
	}
}

func run(files []string) error {
	count, parts := map[string]int{}, 0
	var without []string
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		var list struct {
			BomFormat  string
			Components []struct {
				Name     string
				Licenses []licence
				Evidence struct{ Licenses []licence }
			}
		}
		if err := json.Unmarshal(raw, &list); err != nil || list.BomFormat != "CycloneDX" || len(list.Components) == 0 {
			return fmt.Errorf("%s is no list of software: %v", file, err)
		}
		for _, c := range list.Components {
			parts++
			under := readByHand[c.Name]
			if of := append(c.Licenses, c.Evidence.Licenses...); len(of) > 0 {
				under = of[0].Expression + of[0].License.ID
				if under == "" {
					under = of[0].License.Name
				}
			}
			if under == "" {
				without = append(without, c.Name)
			}
			count[under]++
		}
	}
	for _, name := range slices.Sorted(maps.Keys(count)) {
		fmt.Printf("%4d  %s\n", count[name], name)
	}
	fmt.Printf("%4d  in %s\n", parts, strings.Join(files, ", "))
	if without != nil {
		return fmt.Errorf("without a licence: %s", strings.Join(without, ", "))
	}
	return nil
}
