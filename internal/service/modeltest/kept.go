package modeltest

import (
	_ "embed"
	"strconv"
	"strings"
)

//go:embed seeds.txt
var seeds string

// Kept are the seeds of sequences that once found a fault.
func Kept() []uint64 {
	var out []uint64
	for line := range strings.Lines(seeds) {
		word, _, _ := strings.Cut(strings.TrimSpace(line), " ")
		if n, err := strconv.ParseUint(word, 10, 64); err == nil {
			out = append(out, n)
		}
	}
	return out
}
