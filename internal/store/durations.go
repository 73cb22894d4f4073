package store

import (
	"context"
	"math"
	"slices"
)

// Learned is how long creations took: of a type, or of one of its sizes, anywhere in
// an account or in one region. Empty words stand for all.
type Learned struct {
	Type, Region, Size string
	Ms                 int64
}

// leastLearned is from how many creations something is learned.
const leastLearned = 3

// Expected gives the median durations of the last healthy creations in an account, for
// each type, each region of it and each size there, from at least three of them.
func (s *Store) Expected(ctx context.Context, account string) ([]Learned, error) {
	type of struct{ Type, Region, Size string }
	type took struct {
		of
		All []int64
	}
	rows, err := many[took](ctx, s.Pool, `SELECT type, region, size, array_agg(ms) AS all FROM durations
		WHERE account = $1 AND at > now() - interval '90 days' GROUP BY type, region, size`, account)
	if err != nil {
		return nil, err
	}
	all := map[of][]int64{}
	for _, r := range rows {
		for _, wider := range slices.Compact([]of{{r.Type, "", ""}, {r.Type, r.Region, ""}, r.of}) {
			all[wider] = append(all[wider], r.All...)
		}
	}
	var out []Learned
	for of, ms := range all {
		if len(ms) >= leastLearned {
			out = append(out, Learned{of.Type, of.Region, of.Size, median(ms)})
		}
	}
	return out, nil
}

// median gives the middle of some durations, or the mean of the two in the middle.
func median(ms []int64) int64 {
	slices.Sort(ms)
	low, high := ms[(len(ms)-1)/2], ms[len(ms)/2]
	return int64(math.RoundToEven(float64(low+high) / 2))
}
