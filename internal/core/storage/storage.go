// Package storage computes disks: which type suits some work, how large a disk must be
// to be fast enough, how data and log are laid out over several, and what is usable
// after redundancy. It computes on offers it is given.
package storage

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

const (
	gib = 1 << 30
	tib = 1 << 40
)

// Need is what is wanted of one disk. Zero fields ask nothing.
type Need struct {
	Bytes int64 `json:"bytes,omitempty"`
	// Work is what it is used for; see Works.
	Work string `json:"work,omitempty"`
	// MBps and Ops are the throughput and the operations a second that it must reach.
	MBps float64 `json:"mbps,omitempty"`
	Ops  float64 `json:"ops,omitempty"`
	// Zone must sell it.
	Zone string `json:"zone,omitempty"`
}

// Work is a way of using a disk, with what matters then.
type Work struct{ Name, About, Matters string }

// Works are the words for work, the same in offers and templates.
var Works = []Work{
	{"bulk", "large files, read from end to end", "throughput for its price matters, operations hardly"},
	{"steady", "a mixed load that goes on all day", "operations and throughput must not sink when it is full"},
	{"small-writes", "many small writes, as databases make them", "operations a second decide"},
	{"log", "one stream of writes that others wait for", "each write is waited for, so throughput must not stall"},
	{"archive", "written once and rarely read", "only the price of a GiB matters"},
	{"scratch", "what may be lost with the machine", "speed matters, lasting does not"},
}

// WorkNames lists the words for work.
func WorkNames() []string {
	out := make([]string, len(Works))
	for i, w := range Works {
		out[i] = w.Name
	}
	return out
}

// SizeFor gives the smallest disk of a type, in bytes and whole GiB, that holds and
// reaches what is needed, and why there is none. Throughput grows with the size as
// [offer.DiskType.Throughput] says.
func SizeFor(n Need, d offer.DiskType) (bytes int64, why []string) {
	bytes = max(n.Bytes, d.MinBytes)
	for _, x := range []struct {
		needed, base, each, most float64
		unit                     string
	}{{n.MBps, d.MBps, d.MBpsTiB, d.MBpsMost, "MB/s"}, {n.Ops, d.Ops, d.OpsTiB, d.OpsMost, "operations a second"}} {
		if x.needed <= x.base {
			continue
		}
		reaches := x.base
		if x.each > 0 {
			reaches = x.base + x.each*float64(d.MaxBytes)/tib
		}
		if x.most > 0 {
			reaches = min(reaches, x.most)
		}
		if x.needed > reaches {
			why = append(why, fmt.Sprintf("a %s disk reaches at most %.0f %s and %.0f are needed", d.Name, reaches,
				x.unit, x.needed))
			continue
		}
		bytes = max(bytes, int64(math.Ceil((x.needed-x.base)/x.each*tib)))
	}
	if n.Work != "scratch" && slices.Contains(d.For, "scratch") {
		why = append(why, "it is lost with its machine")
	}
	if bytes = (bytes + gib - 1) / gib * gib; bytes > d.MaxBytes {
		why = append(why, fmt.Sprintf("a %s disk holds at most %s and %s are needed", d.Name,
			resource.FormatData(d.MaxBytes), resource.FormatData(bytes)))
	}
	return bytes, why
}

// Advice is one disk type for a need, with what speaks for and against it. Hour is 0
// where the price is not told.
type Advice struct {
	Type   string   `json:"type"`
	Bytes  int64    `json:"bytes"`
	MBps   float64  `json:"mbps"`
	Ops    float64  `json:"ops"`
	Hour   float64  `json:"hour"`
	Zones  []string `json:"zones"`
	Why    []string `json:"why"`
	WhyNot []string `json:"why_not,omitempty"`
}

// Advise ranks the disk types of a region for a need: those that do, the ones meant
// for the work first and then the cheapest; then the others with every reason. A word
// for work that nobody knows is an error.
func Advise(n Need, o *offer.Offers) ([]Advice, error) {
	i := slices.Index(WorkNames(), n.Work)
	if n.Work != "" && i < 0 {
		return nil, fmt.Errorf("no disk is advised for %q: the work is one of %s", n.Work,
			strings.Join(WorkNames(), ", "))
	}
	out := make([]Advice, 0, len(o.DiskTypes))
	meant := map[string]bool{}
	for _, d := range o.DiskTypes {
		a := Advice{Type: d.Name, Zones: d.Zones, Why: []string{}}
		a.Bytes, a.WhyNot = SizeFor(n, d)
		a.MBps, a.Ops = d.Throughput(a.Bytes)
		a.Hour = d.GiBHour * float64(a.Bytes) / gib
		if meant[d.Name] = n.Work == "" || slices.Contains(d.For, n.Work); n.Work != "" {
			word := "it is meant for " + Works[i].About + ": " + Works[i].Matters
			if !meant[d.Name] {
				word = "it is not meant for " + Works[i].About + ", where " + Works[i].Matters
			}
			a.Why = append(a.Why, word)
		}
		if n.Bytes > 0 && a.Bytes > max(n.Bytes, d.MinBytes) {
			a.Why = append(a.Why, fmt.Sprintf("it must have %s to be fast enough", resource.FormatData(a.Bytes)))
		}
		switch {
		case len(d.Zones) == 0:
			a.WhyNot = append(a.WhyNot, "it is not sold in "+o.Region)
		case n.Zone != "" && !slices.Contains(d.Zones, n.Zone):
			a.WhyNot = append(a.WhyNot, "zone "+n.Zone+" does not sell it, only "+strings.Join(d.Zones, ", "))
		}
		out = append(out, a)
	}
	rank := func(a Advice) int {
		if meant[a.Type] {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(out, func(a, b Advice) int {
		better := 0
		if rank(a) > 0 && rank(b) > 0 { // of those that are not meant for it, what matters decides
			switch n.Work {
			case "small-writes", "steady", "log":
				better = cmp.Compare(b.Ops, a.Ops)
			case "bulk", "scratch":
				better = cmp.Compare(b.MBps, a.MBps)
			}
		}
		return cmp.Or(cmp.Compare(len(a.WhyNot), len(b.WhyNot)), cmp.Compare(rank(a), rank(b)), better,
			cmp.Compare(a.Hour, b.Hour), cmp.Compare(a.Type, b.Type))
	})
	return out, nil
}

// Best gives the type that is advised first. The error says what the nearest lacks.
func Best(advice []Advice, region string) (string, error) {
	switch {
	case len(advice) == 0:
		return "", fmt.Errorf("no disks are sold in %s", region)
	case len(advice[0].WhyNot) > 0:
		return "", fmt.Errorf("no disk type of %s fits; the nearest is %s: %s", region, advice[0].Type,
			strings.Join(advice[0].WhyNot, "; "))
	}
	return advice[0].Type, nil
}

// redundancies tell how many of n disks hold data of their own. The levels are
// those of the SNIA Common RAID Disk Data Format; copies-2 and copies-3 keep
// every block on so many disks.
var redundancies = map[string]struct {
	least int64
	data  func(n int64) float64
}{
	"raid0":    {1, func(n int64) float64 { return float64(n) }},
	"raid1":    {2, func(int64) float64 { return 1 }},
	"raid5":    {3, func(n int64) float64 { return float64(n - 1) }},
	"raid6":    {4, func(n int64) float64 { return float64(n - 2) }},
	"raid10":   {4, func(n int64) float64 { return math.Floor(float64(n) / 2) }},
	"copies-2": {2, func(n int64) float64 { return float64(n) / 2 }},
	"copies-3": {3, func(n int64) float64 { return float64(n) / 3 }},
}

// Usable gives the bytes that n disks of a size have for data: those that hold data
// of their own after redundancy, less a share for file system, spare room and what
// else overhead stands for. usable = data(n) x size x (1 - overhead).
func Usable(level string, n, size int64, overhead float64) (int64, error) {
	r, known := redundancies[level]
	switch {
	case !known:
		return 0, fmt.Errorf("usable knows raid0, raid1, raid5, raid6, raid10, copies-2 and copies-3, not %q", level)
	case n < r.least:
		return 0, fmt.Errorf("%s needs at least %d disks, not %d", level, r.least, n)
	case overhead < 0 || overhead >= 1:
		return 0, fmt.Errorf("the overhead is a share from 0 to less than 1, such as 0.1, not %g", overhead)
	}
	return int64(r.data(n) * float64(size) * (1 - overhead)), nil
}
