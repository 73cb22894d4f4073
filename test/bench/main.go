// The benchmarks of the project, each as a ratio to a reference that is
// measured beside it: machines are noisy, ratios hold. Run it with: make bench.
package main

import (
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"
)

// row is one line of the table.
type row struct {
	id, what            string
	measured, reference string
	ratio, target       float64
	note                string
}

func main() {
	only := flag.String("only", "", "rows to measure, such as B1,B8; all when empty")
	markdown := flag.Bool("markdown", false, "print the table as Markdown")
	rounds := flag.Int("rounds", 9, "how often each figure and its reference are measured, in turns")
	alone := flag.Bool("peak", false, "only print the peak of memory of rendering once, in MB")
	flag.Parse()
	if *alone {
		if err := peakOfOne(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	var rows []row
	for _, b := range []struct {
		ids string
		run func(rounds int) ([]row, error)
		// limits first: a child's peak of memory counts that of its parent
	}{
		{"limits", limits},
		{"B8", checking},
		{"B1 B2", rendering},
		{"R1 resolve", resolving},
		{"B3 B4 R2 schedule", scheduling},
		{"R3 queries", queries},
		{"R4 account", oneAccount},
		{"calls", callsOfEach},
		{"fit form", choosing},
	} {
		if *only != "" && !slices.ContainsFunc(strings.Split(*only, ","),
			func(id string) bool { return strings.Contains(b.ids, id) }) {
			continue
		}
		more, err := b.run(*rounds)
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		rows = append(rows, more...)
	}
	if len(rows) == 0 {
		fmt.Fprintf(os.Stderr, "no row is named %s; leave -only out to see them all\n", *only)
		os.Exit(2)
	}
	if !print(rows, *markdown) {
		os.Exit(1)
	}
}

// print writes the table, and says whether every row holds.
func print(rows []row, markdown bool) bool {
	all := true
	format := "%-4s %-62s %12s %12s %8s %8s  %s\n"
	if markdown {
		format = "| %s | %s | %s | %s | %s | %s | %s |\n"
	}
	fmt.Printf(format, "row", "what", "measured", "reference", "ratio", "target", "holds")
	if markdown {
		fmt.Println("|---|---|---|---|---|---|---|")
	}
	for _, r := range rows {
		holds := "yes"
		if r.ratio > r.target {
			holds, all = "NO", false
		}
		fmt.Printf(format, r.id, r.what, r.measured, r.reference, fmt.Sprintf("%.2f", r.ratio),
			fmt.Sprintf("%.2f", r.target), strings.TrimSuffix(holds+"; "+r.note, "; "))
	}
	fmt.Printf("\n%s, %s, %d processors; medians of paired rounds\n", runtime.Version(), runtime.GOARCH,
		runtime.GOMAXPROCS(0))
	return all
}

// paired measures two things in turns and gives the medians and the median of
// the ratios: what disturbs one round disturbs both.
func paired(rounds int, measured, reference func()) (m, r time.Duration, ratio float64) {
	timed := func(f func()) time.Duration {
		runtime.GC()
		start := time.Now()
		f()
		return time.Since(start)
	}
	measured()
	reference()
	var ms, rs []time.Duration
	var ratios []float64
	for range rounds {
		a, b := timed(measured), timed(reference)
		ms, rs, ratios = append(ms, a), append(rs, b), append(ratios, float64(a)/float64(b))
	}
	return median(ms), median(rs), median(ratios)
}

func median[T time.Duration | float64](list []T) T {
	slices.Sort(list)
	return list[len(list)/2]
}

func short(d time.Duration) string {
	switch {
	case d > time.Second:
		return fmt.Sprintf("%.2f s", d.Seconds())
	case d > time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(d.Microseconds())/1000)
	}
	return fmt.Sprintf("%d us", d.Microseconds())
}
