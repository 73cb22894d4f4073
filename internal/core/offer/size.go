package offer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"undersail/internal/core/resource"
)

// Need is what a machine must have. Zero fields ask nothing.
type Need struct {
	VCPUs        int64    `json:"vcpus,omitempty"`
	MemoryBytes  int64    `json:"memory_bytes,omitempty"`
	Architecture string   `json:"architecture,omitempty"`
	Zones        []string `json:"zones,omitempty"` // all of them must sell it
	// Speed of a core, network in Gbit/s, disks in MB/s and operations a second.
	Speed       float64 `json:"speed,omitempty"`
	NetworkGbps float64 `json:"network_gbps,omitempty"`
	DiskMBps    float64 `json:"disk_mbps,omitempty"`
	DiskOps     float64 `json:"disk_ops,omitempty"`
	Generation  int64   `json:"generation,omitempty"`
	LocalBytes  int64   `json:"local_bytes,omitempty"`
	// Host says that a dedicated host is at hand.
	Host bool `json:"host,omitempty"`
	// Sizes are preferred, the first most; they rank before others that fit.
	Sizes []string `json:"sizes,omitempty"`
}

// Choice is one size with the reasons why it does not do; none means it fits.
type Choice struct {
	Size   Size     `json:"size"`
	WhyNot []string `json:"why_not,omitempty"`
}

// Fit ranks all sizes against a need: those that fit first, cheapest first;
// then the others with every reason.
func (o *Offers) Fit(n Need) []Choice {
	choices := make([]Choice, 0, len(o.Sizes))
	for _, s := range o.Sizes {
		choices = append(choices, Choice{s, o.WhyNot(s, n)})
	}
	liking := func(s Size) int {
		if i := slices.Index(n.Sizes, s.Name); i >= 0 {
			return i
		}
		return len(n.Sizes)
	}
	slices.SortStableFunc(choices, func(a, b Choice) int {
		return cmp.Or(cmp.Compare(len(a.WhyNot), len(b.WhyNot)), cmp.Compare(liking(a.Size), liking(b.Size)),
			cmp.Compare(a.Size.Hour, b.Size.Hour), smaller(a.Size, b.Size), cmp.Compare(a.Size.Name, b.Size.Name))
	})
	return choices
}

// smaller compares sizes of which the cloud tells no price: what has less takes less.
func smaller(a, b Size) int {
	if a.Hour > 0 || b.Hour > 0 {
		return 0
	}
	return cmp.Or(cmp.Compare(a.VCPUs, b.VCPUs), cmp.Compare(a.MemoryBytes, b.MemoryBytes))
}

// WhyNot gives every reason why a size does not meet a need.
func (o *Offers) WhyNot(s Size, n Need) []string {
	var why []string
	if s.Withdrawn {
		why = append(why, "it is no longer sold")
	} else if len(s.Zones) == 0 {
		why = append(why, fmt.Sprintf("it is not sold in %s", o.Region))
	}
	if s.VCPUs < n.VCPUs {
		why = append(why, fmt.Sprintf("it has %d vcpus and %d are needed", s.VCPUs, n.VCPUs))
	}
	if s.MemoryBytes < n.MemoryBytes {
		why = append(why, fmt.Sprintf("it has %s of memory and %s are needed", resource.FormatData(s.MemoryBytes),
			resource.FormatData(n.MemoryBytes)))
	}
	for _, x := range []struct {
		has, needed float64
		words       string
	}{
		{s.Speed, n.Speed, "cores of speed %g and %g is needed"},
		{s.NetworkGbps, n.NetworkGbps, "%g Gbit/s to the network and %g are needed"},
		{s.DiskMBps, n.DiskMBps, "%g MB/s to its disks and %g are needed"},
		{s.DiskOps, n.DiskOps, "%g disk operations a second and %g are needed"},
	} {
		if x.has < x.needed {
			why = append(why, fmt.Sprintf("it has "+x.words, x.has, x.needed))
		}
	}
	if s.Generation < n.Generation {
		why = append(why, fmt.Sprintf("it is of generation %d and %d is needed", s.Generation, n.Generation))
	}
	if s.LocalBytes < n.LocalBytes {
		why = append(why, fmt.Sprintf("it has a local disk of %s and %s are needed", resource.FormatData(s.LocalBytes),
			resource.FormatData(n.LocalBytes)))
	}
	if s.Host && !n.Host {
		why = append(why, "it stands on a dedicated host only, and none is named")
	}
	if n.Architecture != "" && s.Architecture != n.Architecture {
		why = append(why, fmt.Sprintf("it is %s and %s is needed", s.Architecture, n.Architecture))
	}
	if len(s.Zones) > 0 {
		for _, z := range n.Zones {
			if !slices.Contains(s.Zones, z) {
				why = append(why, fmt.Sprintf("zone %s does not sell it, only %s", z, strings.Join(s.Zones, ", ")))
			}
		}
	}
	return why
}

// Fits reports whether a size meets a need.
func (o *Offers) Fits(size string, n Need) bool {
	s, sold := o.Size(size)
	return sold && len(o.WhyNot(s, n)) == 0
}

// Suggest names up to three sizes that fit a need, with their price.
func (o *Offers) Suggest(n Need) string {
	var fits []string
	for _, c := range o.Fit(n) {
		if len(c.WhyNot) == 0 && len(fits) < 3 {
			fits = append(fits, fmt.Sprintf("%s (%d vcpus, %s, %s)", c.Size.Name, c.Size.VCPUs,
				resource.FormatData(c.Size.MemoryBytes), o.priced(c.Size.Hour, "h")))
		}
	}
	if fits == nil {
		return "nothing sold here fits; choose another region"
	}
	return "these fit: " + strings.Join(fits, ", ")
}

// Cheapest gives the name of the best size for a need: a preferred one that fits, else
// the cheapest. The error says what the nearest lacks.
func (o *Offers) Cheapest(n Need) (string, error) {
	ranked := o.Fit(n)
	if len(ranked) == 0 {
		return "", fmt.Errorf("no sizes are sold in %s", o.Region)
	}
	if best := ranked[0]; len(best.WhyNot) > 0 {
		for _, c := range ranked[1:] { // of those that lack as little, the largest is the nearest
			if len(c.WhyNot) == len(best.WhyNot) && !c.Size.Withdrawn &&
				(best.Size.Withdrawn || c.Size.VCPUs > best.Size.VCPUs) {
				best = c
			}
		}
		return "", fmt.Errorf("no size sold in %s fits; the nearest is %s: %s", o.Region, best.Size.Name,
			strings.Join(best.WhyNot, "; "))
	}
	return ranked[0].Size.Name, nil
}
