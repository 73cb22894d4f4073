package fit

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/resource"
	"undersail/internal/core/storage"
)

// Need is what is looked for. Zero fields ask nothing, but for Count and Zones, which
// are at least 1.
type Need struct {
	// Machine is what each machine must have; its zones are chosen, not asked.
	Machine offer.Need `json:"machine"`
	// Count is how many machines there are, spread over Zones zones.
	Count int64 `json:"count"`
	Zones int   `json:"zones"`
	// Disk is what each machine has beside it.
	Disk storage.Need `json:"disk"`
	// Types and Features must be had in the region.
	Types    []string `json:"types,omitempty"`
	Features []string `json:"features,omitempty"`
	// Regions are those that are allowed; all when there are none.
	Regions []string `json:"regions,omitempty"`
	// MostMonth is a ceiling for the bill of a month by the hour.
	MostMonth float64 `json:"most_month,omitempty"`
	// By is the measure that ranks; see Measures. Figures are what the team itself
	// measured, by size: more is better, and By figures ranks by them.
	By      string             `json:"by"`
	Figures map[string]float64 `json:"figures,omitempty"`
}

// measure is one way of ranking: the price of a month for a unit of it.
type measure struct {
	name, unit, about string
	of                func(a Answer, n Need) float64
}

var measures = []measure{
	{"price", "", "the price of a month", func(Answer, Need) float64 { return 1 }},
	{"cores", "core", "the price of a core, by its speed", func(a Answer, _ Need) float64 {
		return float64(a.Size.VCPUs) * cmp.Or(a.Size.Speed, 1)
	}},
	{"memory", "GiB of memory", "the price of a GiB of memory",
		func(a Answer, _ Need) float64 { return float64(a.Size.MemoryBytes) / (1 << 30) }},
	{"disk", "MB/s to disks", "the price of a MB/s that machine and disk reach together",
		func(a Answer, _ Need) float64 { return a.MBps }},
	{"network", "Gbit/s to the network", "the price of a Gbit/s",
		func(a Answer, _ Need) float64 { return a.Size.NetworkGbps }},
	{"figures", "unit of your own figure", "the price of a unit that you measured",
		func(a Answer, n Need) float64 { return n.Figures[a.Size.Name] }},
}

// Measures lists what answers can be ranked by, each with what it is.
func Measures() (names, about []string) {
	for _, m := range measures {
		names, about = append(names, m.name), append(about, m.about)
	}
	return names, about
}

// Reason is why something does not fit, and what would make it fit.
type Reason struct {
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
}

// Answer is one place, size and disk. Prices are of all machines with their disks, in
// Currency; 0 is not told. An answer with reasons does not fit.
type Answer struct {
	Region   string     `json:"region"`
	Zones    []string   `json:"zones"`
	Size     offer.Size `json:"size"`
	DiskType string     `json:"disk_type,omitempty"`
	// Disk is how large the disk of a machine must be for what is needed, in bytes.
	Disk int64 `json:"disk_bytes,omitempty"`
	// MBps is what machine and disk reach together.
	MBps     float64 `json:"mbps,omitempty"`
	Currency string  `json:"currency"`
	Hour     float64 `json:"hour"`
	Month    float64 `json:"month"`
	// Ahead is the price of a month of which the machines are paid in advance.
	Ahead float64 `json:"ahead,omitempty"`
	// PerUnit is the price of a month for a unit of what ranks.
	PerUnit float64 `json:"per_unit"`
	Unit    string  `json:"unit,omitempty"`
	// Spare tells what a machine has beyond the need, in words.
	Spare []string `json:"spare"`
	// QuotaLeft is what the quotas have left after it.
	QuotaLeft map[string]int64 `json:"quota_left"`
	WhyNot    []Reason         `json:"why_not,omitempty"`

	// far is how far it is from fitting: a machine that is too small, or a region that is
	// not allowed, is farther than a quota that is too low.
	far int
	// liking is the place of its size among the preferred ones.
	liking int
}

// Search ranks every size and disk type of every region against a need: those that
// fit by the price of what the need is measured by, then the others, the nearest
// first, with every reason. Offers are those of the account's regions. A measure that
// is not known is an error.
func Search(n Need, offers []*offer.Offers) ([]Answer, error) {
	names, _ := Measures()
	n.By, n.Count, n.Zones = cmp.Or(n.By, "price"), max(n.Count, 1), max(n.Zones, 1)
	i := slices.Index(names, n.By)
	if i < 0 {
		return nil, fmt.Errorf("nothing is ranked by %q: it is one of %s", n.By, strings.Join(names, ", "))
	}
	if n.By == "figures" && len(n.Figures) == 0 {
		return nil, fmt.Errorf("to rank by figures, give what you measured of the sizes")
	}
	var found []*Answer // large, and compared more often than made
	for _, o := range offers {
		here := region(n, o)
		types := disks(n, o)
		for _, s := range o.Sizes {
			lacks := o.WhyNot(s, n.Machine) // the same beside every disk
			for _, d := range types {
				a := answer(n, o, s, d, lacks)
				a.WhyNot = append(slices.Clone(here), a.WhyNot...)
				a.far += farther * len(here)
				a.rank(n, measures[i])
				found = append(found, a)
			}
		}
	}
	slices.SortStableFunc(found, nearer)
	out := make([]Answer, len(found))
	for i, a := range found {
		out[i] = *a
	}
	return out, nil
}

// nearer compares two answers by how near they are to what is needed, and then by price: one
// whose price is not told comes last.
func nearer(a, b *Answer) int {
	unpriced := func(a *Answer) int {
		if a.PerUnit == 0 {
			return 1
		}
		return 0
	}
	return cmp.Or(cmp.Compare(len(a.WhyNot)+a.far, len(b.WhyNot)+b.far), cmp.Compare(a.liking, b.liking),
		cmp.Compare(unpriced(a), unpriced(b)), cmp.Compare(a.PerUnit, b.PerUnit),
		cmp.Compare(a.Month, b.Month), cmp.Compare(a.Size.Name, b.Size.Name), cmp.Compare(a.Region, b.Region))
}

// liking is the place of a size among the preferred ones, or after them.
func liking(n Need, size string) int {
	if i := slices.Index(n.Machine.Sizes, size); i >= 0 {
		return i
	}
	return len(n.Machine.Sizes)
}

// disks are the disk types to choose from, or none at all.
func disks(n Need, o *offer.Offers) []*offer.DiskType {
	if n.Disk.Bytes == 0 && n.Disk.MBps == 0 && n.Disk.Work == "" {
		return []*offer.DiskType{nil}
	}
	out := make([]*offer.DiskType, len(o.DiskTypes))
	for i := range o.DiskTypes {
		out[i] = &o.DiskTypes[i]
	}
	return out
}

// region gives the reasons that hold for all of a region.
func region(n Need, o *offer.Offers) []Reason {
	var why []Reason
	if len(n.Regions) > 0 && !slices.Contains(n.Regions, o.Region) {
		why = append(why, Reason{"region " + o.Region + " is not allowed", "allow it with --regions " + o.Region})
	}
	for _, t := range n.Types {
		if !slices.Contains(o.Types, t) {
			why = append(why, Reason{fmt.Sprintf("cloud %s has no resources of type %s", o.Cloud, t),
				"choose an account of another cloud"})
		}
	}
	for _, f := range n.Features {
		if _, has := o.Features[f]; !has {
			why = append(why, Reason{fmt.Sprintf("region %s has no %s", o.Region, f),
				"choose another region, or do without"})
		}
	}
	if len(o.Zones) < n.Zones {
		why = append(why, Reason{fmt.Sprintf("region %s has %d zones and %d are needed", o.Region, len(o.Zones),
			n.Zones), "choose another region, or fewer zones"})
	}
	return why
}

// farther is how much more a reason counts that no asking for more mends.
const farther = 4

// answer looks at one size, of which some things are lacking, with one disk type or with none.
func answer(n Need, o *offer.Offers, s offer.Size, d *offer.DiskType, lacks []string) *Answer {
	a := &Answer{
		Region:    o.Region,
		Size:      s,
		Currency:  o.Currency,
		QuotaLeft: map[string]int64{},
		Spare:     []string{},
		Zones:     []string{},
		MBps:      s.DiskMBps,
		liking:    liking(n, s.Name),
	}
	for _, message := range lacks {
		a.far += farther
		a.WhyNot = append(a.WhyNot, Reason{message, ""})
	}
	zones := s.Zones
	if d != nil {
		zones = a.withDisk(n, o, *d)
	}
	if a.Zones = zones[:min(n.Zones, len(zones))]; len(a.Zones) < n.Zones && len(o.Zones) >= n.Zones && !s.Withdrawn &&
		len(s.Zones) > 0 {
		what := s.Name
		if d != nil {
			what += " with " + d.Name
		}
		why := Reason{fmt.Sprintf("%s is sold in no zone of %s", what, o.Region), "choose another region"}
		if len(zones) > 0 {
			why = Reason{fmt.Sprintf("%s is sold in %d of %d zones (%s) and %d are needed", what, len(zones),
				len(o.Zones), strings.Join(zones, ", "), n.Zones), fmt.Sprintf("it fits with %d", len(zones))}
		}
		a.WhyNot = append(a.WhyNot, why)
	}
	a.bill(n, s, d)
	a.quotas(n, o, s, d)
	a.spare(n, s)
	return a
}

// withDisk sizes the disk for what is needed, and gives the zones that have both.
func (a *Answer) withDisk(n Need, o *offer.Offers, d offer.DiskType) []string {
	a.DiskType = d.Name
	bytes, why := storage.SizeFor(n.Disk, d)
	a.Disk = bytes
	for _, w := range why {
		a.WhyNot = append(a.WhyNot, Reason{w, "choose another disk type, or spread the data over several disks"})
	}
	if i := slices.Index(storage.WorkNames(), n.Disk.Work); i >= 0 && !slices.Contains(d.For, n.Disk.Work) {
		a.WhyNot = append(a.WhyNot,
			Reason{fmt.Sprintf("%s is not meant for %s, where %s", d.Name, storage.Works[i].About,
				storage.Works[i].Matters), "choose a type that is, or do not say what it is for"})
	}
	reach, _ := d.Throughput(bytes)
	if a.MBps = reach; a.Size.DiskMBps > 0 {
		a.MBps = min(reach, a.Size.DiskMBps)
	}
	if n.Disk.MBps > 0 && reach >= n.Disk.MBps && a.MBps < n.Disk.MBps {
		a.WhyNot = append(a.WhyNot,
			Reason{fmt.Sprintf("the machine reaches %g MB/s to its disks and %g are needed", a.Size.DiskMBps,
				n.Disk.MBps), "choose a larger size, or one of a family with faster disks"})
	}
	var both []string
	for _, z := range a.Size.Zones {
		if slices.Contains(d.Zones, z) {
			both = append(both, z)
		}
	}
	return both
}

// bill computes prices; where a part is not told, nothing is.
func (a *Answer) bill(n Need, s offer.Size, d *offer.DiskType) {
	disk := 0.0
	if d != nil {
		if disk = d.GiBHour * float64(a.Disk) / (1 << 30); disk == 0 {
			return
		}
	}
	if s.Hour == 0 {
		return
	}
	count := float64(n.Count)
	a.Hour = count * (s.Hour + disk)
	a.Month = a.Hour * price.HoursPerMonth
	if s.Month > 0 {
		a.Ahead = count * (s.Month + disk*price.HoursPerMonth)
	}
	if n.MostMonth > 0 && a.Month > n.MostMonth {
		a.WhyNot = append(a.WhyNot,
			Reason{fmt.Sprintf("a month costs %.2f %s and %.2f is the most", a.Month, a.Currency, n.MostMonth),
				fmt.Sprintf("it fits from %.2f on", a.Month)})
	}
}

// quotas computes what is left after it.
func (a *Answer) quotas(n Need, o *offer.Offers, s offer.Size, d *offer.DiskType) {
	need := map[string]int64{"vcpus": n.Count * s.VCPUs}
	if s.Quota != "" {
		need[s.Quota] = n.Count * s.VCPUs
	}
	if d != nil {
		need["disk_gib"] = n.Count * (a.Disk >> 30)
	}
	for _, name := range slices.Sorted(maps.Keys(need)) {
		q, told := o.Quotas[name]
		if !told {
			continue
		}
		left := q.Left() - need[name]
		if a.QuotaLeft[name] = left; left < 0 {
			each := need[name] / n.Count
			remedy := fmt.Sprintf("ask for %d more", -left)
			if fits := q.Left() / max(each, 1); fits > 0 && n.Count > 1 {
				remedy = fmt.Sprintf("%d of them fit; for %d ask for %d more", fits, n.Count, -left)
			}
			a.WhyNot = append(a.WhyNot,
				Reason{fmt.Sprintf("the quota %s of %s has %d left and %d are needed", name, o.Region, q.Left(),
					need[name]), remedy})
		}
	}
}

// spare tells what a machine has beyond the need.
func (a *Answer) spare(n Need, s offer.Size) {
	if more := s.VCPUs - n.Machine.VCPUs; n.Machine.VCPUs > 0 && more > 0 {
		a.Spare = append(a.Spare, fmt.Sprintf("%d vcpus", more))
	}
	if more := s.MemoryBytes - n.Machine.MemoryBytes; n.Machine.MemoryBytes > 0 && more > 0 {
		a.Spare = append(a.Spare, resource.FormatData(more)+" of memory")
	}
	if needed := max(n.Machine.DiskMBps, n.Disk.MBps); needed > 0 && a.MBps > needed {
		a.Spare = append(a.Spare, fmt.Sprintf("%.0f MB/s", a.MBps-needed))
	}
}

// rank computes the price of what the need is measured by.
func (a *Answer) rank(n Need, m measure) {
	units := m.of(*a, n)
	a.Unit = m.unit
	switch {
	case m.name == "price":
		a.PerUnit = a.Month
	case units > 0:
		a.PerUnit = a.Month / units / float64(n.Count)
	case m.name == "figures":
		a.WhyNot = append(a.WhyNot,
			Reason{"no figure of " + a.Size.Name + " was given", "measure it, or rank by another measure"})
	default:
		a.WhyNot = append(a.WhyNot, Reason{"the cloud does not tell its " + m.unit, "rank by another measure"})
	}
}
