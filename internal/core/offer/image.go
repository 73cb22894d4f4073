package offer

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// NewestImage gives the name of the newest image of a system, at least of the version
// from; of like versions the one with the longest support. Empty words ask nothing.
func (o *Offers) NewestImage(system, from, architecture string) (string, error) {
	var best *Image
	for i := range o.Images {
		image := &o.Images[i]
		if system != "" && image.System != system || architecture != "" && image.Architecture != architecture ||
			CompareVersions(image.Version, from) < 0 {
			continue
		}
		if best == nil || cmp.Or(CompareVersions(image.Version, best.Version),
			strings.Compare(image.Ends, best.Ends)) > 0 {
			best = image
		}
	}
	if best == nil {
		var have []string
		for _, i := range o.Images {
			have = append(have, fmt.Sprintf("%s (%s %s, %s)", i.Name, i.System, i.Version, i.Architecture))
		}
		slices.Sort(have)
		return "", fmt.Errorf("no image of %s is %s; there are %s", o.Region,
			strings.Join(strings.Fields(system+" "+from+" "+architecture), " "), strings.Join(have, ", "))
	}
	return best.Name, nil
}

// CompareVersions compares versions such as 12 and 9.4 by their numbers.
func CompareVersions(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		part := func(list []string) int {
			if i >= len(list) {
				return 0
			}
			n, _ := strconv.Atoi(list[i])
			return n
		}
		if c := cmp.Compare(part(x), part(y)); c != 0 {
			return c
		}
	}
	return 0
}
