package storage

import (
	"cmp"
	"fmt"
	"slices"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// LayoutNeed is what disks are laid out for. Without Data, the data is that of a
// database that is held in Memory.
type LayoutNeed struct {
	Memory, Data int64
	// Log wants the log on disks of its own.
	Log bool
	// MBps is the throughput that the data must reach, all its disks together.
	MBps float64
	Zone string
}

// Area is one group of like disks: Count of them, striped where there are several.
type Area struct {
	Use     string  `json:"use"` // data or log
	Type    string  `json:"type"`
	Count   int64   `json:"count"`
	Bytes   int64   `json:"bytes"` // of one
	Striped bool    `json:"striped"`
	MBps    float64 `json:"mbps"` // together
	Hour    float64 `json:"hour"` // together
}

// How many disks are striped at most, and the log of a database in memory.
const (
	mostStriped = 16
	logShare    = 2
	mostLog     = 512 * gib
)

// LayOut computes the disks for a machine and its data. Data without a size is 1.2
// times the memory, the usual rule for databases that are held in memory: one whole
// image of the memory, and a fifth for the one that is being written. A log of its own
// has half the memory, or a tenth of the data where no memory is told, and at most 512
// GiB; it gets a type that is meant for logs. Of all types and stripes of up to 16
// disks that reach what is wanted, the cheapest is taken.
func LayOut(n LayoutNeed, o *offer.Offers) ([]Area, error) {
	data := n.Data
	if data == 0 {
		data = n.Memory + n.Memory/5
	}
	if data == 0 {
		return nil, fmt.Errorf("a layout needs the memory of the machine or the size of the data")
	}
	work := "steady"
	if n.Memory > 0 {
		work = "small-writes"
	}
	areas := []struct {
		use  string
		need Need
	}{{"data", Need{Bytes: data, MBps: n.MBps, Work: work, Zone: n.Zone}}}
	if n.Log {
		log := n.Memory / logShare
		if n.Memory == 0 {
			log = data / 10
		}
		areas = append(areas, struct {
			use  string
			need Need
		}{"log", Need{Bytes: min(log, mostLog), Work: "log", Zone: n.Zone}})
	}
	var out []Area
	for _, a := range areas {
		best, err := stripe(a.use, a.need, o)
		if err != nil {
			return nil, err
		}
		out = append(out, best)
	}
	return out, nil
}

// stripe finds the cheapest group of like disks that reaches a need: of the types
// that are meant for the work, or of any when those do not.
func stripe(use string, n Need, o *offer.Offers) (Area, error) {
	advice, err := Advise(Need{Work: n.Work, Zone: n.Zone}, o)
	if err != nil {
		return Area{}, err
	}
	var best Area
	for _, meant := range []bool{true, false} {
		for _, a := range advice {
			d, _ := o.DiskType(a.Type)
			if len(a.WhyNot) > 0 || meant != slices.Contains(d.For, n.Work) {
				continue
			}
			for count := int64(1); count <= mostStriped; count++ {
				bytes, why := SizeFor(Need{Bytes: (n.Bytes + count - 1) / count, MBps: n.MBps / float64(count)}, d)
				if why != nil {
					continue
				}
				mbps, _ := d.Throughput(bytes)
				area := Area{
					Use:     use,
					Type:    d.Name,
					Count:   count,
					Bytes:   bytes,
					Striped: count > 1,
					MBps:    mbps * float64(count),
					Hour:    d.GiBHour * float64(bytes) / gib * float64(count),
				}
				if best.Count == 0 || cmp.Compare(area.Hour, best.Hour*0.999) < 0 {
					best = area
				}
			}
		}
		if best.Count > 0 {
			return best, nil
		}
	}
	return best, fmt.Errorf("no disks of %s reach %.0f MB/s over %s, striped over up to %d", o.Region, n.MBps,
		resource.FormatData(n.Bytes), mostStriped)
}
