package offer

import (
	"strings"
	"testing"
)

var market = Offers{Region: "north-fell", Currency: "kr", Zones: []string{"a", "b"},
	Sizes: []Size{
		{Name: "small", VCPUs: 1, MemoryBytes: 4 << 30, Architecture: "x86_64", Hour: 0.02, Zones: []string{"a", "b"}},
		{Name: "half", VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64", Hour: 0.05, Zones: []string{"a"}},
		{Name: "large", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "x86_64", Hour: 0.16, Zones: []string{"a", "b"}},
		{Name: "arm", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "arm64", Hour: 0.10, Zones: []string{"a", "b"}},
		{Name: "old", VCPUs: 8, MemoryBytes: 32 << 30, Architecture: "x86_64", Hour: 0.01, Withdrawn: true},
		{Name: "far", VCPUs: 64, MemoryBytes: 512 << 30, Architecture: "x86_64", Hour: 2},
	},
	Quotas: map[string]Quota{"vcpus": {Limit: 10, Used: 4}}}

func TestFitRanksByPriceAndSaysWhyNot(t *testing.T) {
	t.Parallel()
	choices := market.Fit(Need{VCPUs: 4, MemoryBytes: 8 << 30, Architecture: "x86_64", Zones: []string{"a", "b"}})
	if choices[0].Size.Name != "large" || len(choices[0].WhyNot) != 0 {
		t.Errorf("first is %+v", choices[0])
	}
	why := map[string]string{}
	for _, c := range choices {
		why[c.Size.Name] = strings.Join(c.WhyNot, "; ")
	}
	for name, want := range map[string]string{
		"small": "it has 1 vcpus and 4 are needed; it has 4GiB of memory and 8GiB are needed", "half": "zone b does not sell it, only a",
		"arm": "it is arm64 and x86_64 is needed", "old": "it is no longer sold", "far": "it is not sold in north-fell",
	} {
		if why[name] != want {
			t.Errorf("%s: %q, want %q", name, why[name], want)
		}
	}
	if s := market.Suggest(Need{VCPUs: 4}); !strings.HasPrefix(s, "these fit: half (4 vcpus, 16GiB, 0.050 kr/h), arm") {
		t.Error(s)
	}
	if s := market.Suggest(Need{VCPUs: 500}); !strings.Contains(s, "choose another region") {
		t.Error(s)
	}
}

func TestWhatIsLeftOfAQuotaCountsRunsAndNotProposals(t *testing.T) {
	t.Parallel()
	if left := (Quota{Limit: 10, Used: 4, Running: 3, Wanted: 9}).Left(); left != 3 {
		t.Errorf("%d left, want 3", left)
	}
}
