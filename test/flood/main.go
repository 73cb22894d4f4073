// Command flood runs the built service under load and attack, and prints what a signed-in
// operator notices of it: the 95th percentile of their reads beside that of an idle service
// on the same machine, the memory of the service after two minutes and at the end, and what
// became of the runs that were under way.
package main

import (
	"cmp"
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// The figures to reach.
const (
	mostTimes  = 4
	mostMemory = 400 // MiB
	// memory after the longest flood may differ by so much from that after two minutes: the
	// collector of garbage leaves more or less from one moment to the next.
	mostGrowth = 1.1
)

// only is the one way of attacking, or -1.
var only int

func main() {
	clients := flag.Int("clients", 50, "how many clients attack")
	during := flag.Duration("during", time.Minute, "for how long in each round")
	rounds := flag.Int("rounds", 3, "how many rounds; the median counts")
	lasting := flag.Duration("lasting", 10*time.Minute, "how long the flood lasts whose memory is compared; 0 for none")
	idle := flag.Duration("idle", 15*time.Second, "how long the service is measured before each round")
	flag.IntVar(&only, "only", -1,
		"attack in one way alone: 0 sign-ins, 1 big bodies, 2 slow peers, 3 streams, 4 heavy checks, 5 invented names")
	flag.Parse()
	if err := run(*clients, *rounds, *during, *lasting, *idle); err != nil {
		fmt.Fprintln(os.Stderr, "flood:", err)
		os.Exit(1)
	}
}

func run(clients, rounds int, during, lasting, idle time.Duration) error {
	f, err := newFlood(clients)
	defer f.down()
	if err != nil {
		return err
	}
	for i := range rounds {
		fmt.Fprintf(os.Stderr, "round %d of %d: idle for %v, then %d clients attack for %v\n", i+1, rounds, idle,
			clients, during)
		f.round(idle, during)
	}
	if lasting > 0 {
		fmt.Fprintf(os.Stderr, "%d clients attack for %v\n", clients, lasting)
		f.last(lasting)
	}
	return f.report()
}

// flood is one service that is attacked, and one beside it on the same machine that is idle.
type flood struct {
	clients          int
	attacked, beside *target
	operator, other  string   // their operators' tokens
	insiders         []string // who is signed in and attacks all the same

	tally        tally
	runs, harmed atomic.Int64
	failed       int
	rounds       []round
	most         int64 // MiB
	early, late  int64 // MiB: medians of the third minute and of the last
}

// round is the 95th percentile of an operator's reads: before the attack, under it, and under
// it of the idle service beside.
type round struct{ before, under, beside time.Duration }

func (r round) times() float64 { return float64(r.under) / float64(r.beside) }

func newFlood(clients int) (f *flood, err error) {
	f = &flood{clients: clients}
	if f.attacked, err = newTarget(); err != nil {
		return f, err
	}
	if f.beside, err = newTarget(); err != nil {
		return f, err
	}
	if f.operator, err = f.attacked.person("operator-of-flood", "operator"); err != nil {
		return f, err
	}
	if f.other, err = f.beside.person("operator-of-flood", "operator"); err != nil {
		return f, err
	}
	for i := range 4 {
		p, err := f.attacked.person(fmt.Sprint("insider", i), "operator")
		if err != nil {
			return f, err
		}
		f.insiders = append(f.insiders, p)
	}
	for _, stack := range []string{"quiet", "read"} {
		for _, t := range []*target{f.attacked, f.beside} {
			if said, err := t.apply(stack); err != nil {
				return f, fmt.Errorf("make %s: %w: %s", stack, err, said)
			}
		}
	}
	return f, nil
}

func (f *flood) down() {
	for _, t := range []*target{f.attacked, f.beside} {
		if t != nil {
			t.down()
		}
	}
}

func (f *flood) round(idle, during time.Duration) {
	r := round{before: f.attacked.read(f.operator, idle).percentile(95)}
	var under, beside reads
	f.under(during, func() { under = f.attacked.read(f.operator, during) },
		func() { beside = f.beside.read(f.other, during) })
	r.under, r.beside = under.percentile(95), beside.percentile(95)
	f.failed += under.failed
	f.rounds = append(f.rounds, r)
	fmt.Printf("reads of an operator            p95 %v idle before, %v under attack (p50 %v of %d, %d failed), %v "+
		"of an idle service beside it: %.1f times\n",
		r.before, r.under, under.percentile(50), len(under.took), under.failed, r.beside, r.times())
}

// last floods for long, and compares the memory after two minutes with that at the end.
func (f *flood) last(lasting time.Duration) {
	var early, late []int64
	began := time.Now()
	f.under(lasting, func() {
		for time.Since(began) < lasting {
			switch at := time.Since(began); {
			case at > lasting-lasting/10:
				late = append(late, f.attacked.memory())
			case at > lasting/5 && at < lasting/5+lasting/10:
				early = append(early, f.attacked.memory())
			}
			time.Sleep(200 * time.Millisecond)
		}
	})
	f.early, f.late = median(early), median(late)
}

// under attacks for a while, with runs made all the time, and does other things beside.
func (f *flood) under(during time.Duration, beside ...func()) {
	ctx, cancel := context.WithTimeout(context.Background(), during)
	defer cancel()
	var all sync.WaitGroup
	for i := range f.clients {
		all.Go(func() { f.attacked.attack(ctx, i, f.insiders, &f.tally) })
	}
	all.Go(func() {
		for ctx.Err() == nil {
			n := f.runs.Add(1)
			if said, err := f.attacked.apply(fmt.Sprint("during-", n)); err != nil {
				f.harmed.Add(1)
				fmt.Fprintln(os.Stderr, "a run was harmed:", said, err)
			}
		}
	})
	all.Go(func() {
		for ctx.Err() == nil {
			f.most = max(f.most, f.attacked.memory())
			time.Sleep(200 * time.Millisecond)
		}
	})
	for _, do := range beside {
		all.Go(do)
	}
	all.Wait()
	if out, err := f.attacked.undersail("verify", "quiet"); err != nil {
		f.harmed.Add(1)
		fmt.Fprintln(os.Stderr, "a stack was harmed:", out, err)
	}
}

func median[T cmp.Ordered](of []T) (out T) {
	if slices.Sort(of); len(of) > 0 {
		out = of[len(of)/2]
	}
	return out
}

func (f *flood) report() error {
	var times []float64
	for _, r := range f.rounds {
		times = append(times, r.times())
	}
	slowest := median(times)
	fmt.Printf("attackers                       %d clients: %s\n", f.clients, &f.tally)
	fmt.Printf("p95 flooded over idle beside    %.1f times, the median of %d; at most %d\n", slowest, len(times),
		mostTimes)
	fmt.Printf("most memory of the service      %d MiB; at most %d\n", f.most, mostMemory)
	if f.late > 0 {
		fmt.Printf("memory as the flood goes on     %d MiB after a fifth of it, %d MiB at its end\n", f.early, f.late)
	}
	fmt.Printf("runs during the flood           %d, harmed %d\n", f.runs.Load(), f.harmed.Load())
	var errs []error
	if slowest > mostTimes {
		errs = append(errs, fmt.Errorf("reads are too slow: %.1f times", slowest))
	}
	if f.failed > 0 {
		errs = append(errs, fmt.Errorf("%d reads failed", f.failed))
	}
	if f.most > mostMemory {
		errs = append(errs, fmt.Errorf("it took %d MiB", f.most))
	}
	if float64(f.late) > mostGrowth*float64(f.early) {
		errs = append(errs, fmt.Errorf("memory grows: %d MiB, then %d MiB", f.early, f.late))
	}
	if f.harmed.Load() > 0 || f.runs.Load() == 0 {
		errs = append(errs, fmt.Errorf("of %d runs %d were harmed", f.runs.Load(), f.harmed.Load()))
	}
	return errors.Join(errs...)
}
