package address

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
)

// TestAPictureDividesAWholeRange draws what is taken, what is ours, what overlaps and
// what is left, each in its place.
func TestAPictureDividesAWholeRange(t *testing.T) {
	p := netip.MustParsePrefix
	whole := p("10.40.0.0/20")
	taken := []Taken{{Range: p("10.40.0.0/22"), Name: "archive"}, {Range: p("10.96.0.0/16"), Name: "elsewhere"}}
	own := []Own{{p("10.40.3.192/26"), "edge"}, {p("10.40.4.0/24"), "first"}, {p("10.40.5.0/24"), "second"}}
	var lines []string
	for _, x := range Picture(whole, taken, own) {
		lines = append(lines, fmt.Sprintf("%s %s %s%s %.4f %.4f", x.Range, x.Kind, x.Name, x.Over, x.From, x.Share))
	}
	want := []string{"10.40.0.0/22 taken archive 0.0000 0.2500", "10.40.3.192/26 overlap edgearchive 0.2344 0.0156",
		"10.40.4.0/24 ours first 0.2500 0.0625",
		"10.40.5.0/24 ours second 0.3125 0.0625", "10.40.6.0/23 free  0.3750 0.1250",
		"10.40.8.0/21 free  0.5000 0.5000"}
	if got := strings.Join(lines, "\n"); got != strings.Join(want, "\n") {
		t.Errorf("the picture is\n%s\nand not\n%s", got, strings.Join(want, "\n"))
	}
	got := Picture(p("10.40.1.0/24"), taken, nil)
	if len(got) != 1 || got[0].Share != 1 || got[0].Range.String() != "10.40.1.0/24" {
		t.Errorf("a whole within something taken is drawn as %v", got)
	}
	got = Picture(p("fd00:40::/48"), nil, []Own{{p("fd00:40:0:8000::/64"), "six"}})
	if got[len(got)-1].Kind == "" || Picture(netip.Prefix{}, nil, nil) != nil {
		t.Errorf("IPv6 is drawn as %v", got)
	} else {
		for _, x := range got {
			if x.Name == "six" && x.From != 0.5 {
				t.Errorf("the upper half begins at %v", x.From)
			}
		}
	}
	if got := Picture(p("10.40.9.0/24"), nil, nil); len(got) != 1 || got[0].Kind != "free" {
		t.Errorf("an empty whole is drawn as %v", got)
	}
}
