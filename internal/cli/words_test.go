package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"undersail/internal/accounts"
	"undersail/internal/core/address"
	"undersail/internal/core/change"
	"undersail/internal/core/fit"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/price"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
	"undersail/internal/proposing"
	"undersail/internal/review"
)

func TestAmountsAreToldInFewCharacters(t *testing.T) {
	t.Parallel()
	for bytes, want := range map[int64]string{
		0:            "-",
		1 << 30:      "1GiB",
		1536 << 30:   "1536GiB",
		10 << 40:     "10TiB",
		123456789012: "115GiB",
		3<<40 + 1:    "3TiB",
	} {
		if got := dataWords(bytes); got != want {
			t.Errorf("%d bytes: %q, want %q", bytes, got, want)
		}
	}
	for _, c := range []struct {
		amount float64
		digits int
		want   string
	}{{0, 3, "-"}, {0.0424, 3, "0.042"}, {1234.5, 0, "1234"}} {
		if got := money(c.amount, c.digits); got != c.want {
			t.Errorf("%g: %q, want %q", c.amount, got, c.want)
		}
	}
	for v, want := range map[float64]string{0: "-", 2.5: "2.5", 12.345: "12.3", 1234.5: "1234"} {
		if got := figure(v); got != want {
			t.Errorf("%g: %q, want %q", v, got, want)
		}
	}
	got := zonesIn("north-fell", []string{"north-fell-a", "other-b"})
	if got != "a other-b" || zonesIn("north-fell", nil) != "-" {
		t.Error(got)
	}
	o := offer.Offers{Region: "north-fell", Zones: []string{"north-fell-a", "north-fell-b"}}
	all, one, none := soldIn(o, o.Zones), soldIn(o, o.Zones[:1]), soldIn(o, nil)
	if all != "all" || one != "a" || none != "not here" {
		t.Errorf("sold in %q, %q, %q", all, one, none)
	}
}

func TestOldOffersAreToldToBeOld(t *testing.T) {
	t.Parallel()
	now := time.Now()
	for age, want := range map[time.Duration]string{
		10 * time.Second:             "",
		5*time.Minute + time.Second:  ", 5 minutes ago",
		40*time.Minute + time.Second: ", 40 minutes ago: they are old",
		3*time.Hour + time.Second:    ", 3h ago: they are old",
	} {
		at := now.Add(-age)
		if got := asOf(at); got != "offers as of "+at.Local().Format("2006-01-02 15:04")+want {
			t.Errorf("%v ago: %q, want ...%q", age, got, want)
		}
	}
	if got := asOf(time.Time{}); !strings.Contains(got, "not known") {
		t.Error(got)
	}
}

func TestLongTextsAreWrappedAndLoseNothing(t *testing.T) {
	t.Parallel()
	words := strings.Fields(strings.Repeat("tide gauge of the northern fell, ", 20) + strings.Repeat("x", 120) + " end")
	for _, indent := range []int{0, 2, 10} {
		var out bytes.Buffer
		wrapped(&out, strings.Join(words, " "), indent)
		if got := strings.Fields(out.String()); strings.Join(got, " ") != strings.Join(words, " ") {
			t.Errorf("indented by %d it says %q", indent, out.String())
		}
		for i, line := range strings.Split(strings.TrimRight(out.String(), "\n"), "\n") {
			if len(strings.Fields(line)) > 1 && len(line) > 96 {
				t.Errorf("line %d has %d characters", i, len(line))
			}
			if want := indent + 2*min(i, 1); len(line)-len(strings.TrimLeft(line, " ")) != want {
				t.Errorf("line %d is not indented by %d: %q", i, want, line)
			}
		}
	}
}

func TestTheSameFindingIsToldOnce(t *testing.T) {
	t.Parallel()
	f := func(place, message string, line int) render.Finding {
		return render.Finding{
			Severity: lang.Error,
			Place:    place,
			Message:  message,
			Remedy:   "choose another",
			Line:     line,
		}
	}
	got := gathered([]render.Finding{f("a.size", "too small", 3), f("b.size", "too small", 4),
		f("b.size", "not sold", 4), f("c.size", "too small", 5)})
	var lines []string
	for _, x := range got {
		lines = append(lines, x.Place+": "+x.Message)
	}
	if want := "a.size and 2 more: too small; b.size: not sold"; strings.Join(lines, "; ") != want {
		t.Errorf("got %s, want %s", strings.Join(lines, "; "), want)
	}
	if gathered(nil) != nil {
		t.Error("something is gathered of nothing")
	}
}

// reviewedProposal is one with everything that a reviewer asks about.
func reviewedProposal() proposing.Proposal {
	return proposing.Proposal{
		ID:        12,
		Stack:     "light",
		Account:   "saltmere-lab",
		Region:    "north-fell",
		Template:  "beacon 1.0.0",
		State:     "open",
		Summary:   "1 to create, 1 to alter",
		CreatedBy: "runa",
		Consents: []render.Consent{
			{Name: "cost", About: "about 40 | month"},
			{Name: "lose-data", About: "what <store> holds"},
		},
		Changes: []change.Change{
			{Change: change.Same, Resource: "net", Type: "network"},
			{
				Change:   change.Create,
				Resource: "door",
				Type:     "firewall",
				Fields: []change.Field{{
					Name:  "rules",
					After: []any{map[string]any{"port": 80, "from": "10.0.0.0/8"}, map[string]any{"port": 443}},
				}},
			},
			{
				Change:   change.Alter,
				Resource: "host",
				Type:     "instance",
				Fields: []change.Field{{
					Name:   "size",
					Before: "plain-1",
					After:  "plain-2",
					Alter:  resource.NeedsStop,
				}},
			},
		},
		Findings: []render.Finding{{
			Severity: lang.Warning,
			Place:    "host.image",
			Message:  "it ends on 2027-01-01\nand is old",
			Remedy:   "choose a newer one",
		}},
		Cost: price.Cost{
			Currency: "kr",
			Hour:     0.05,
			Month:    36.5,
			Ahead:    25,
			Licence:  0.01,
			Untold:   []string{"door"},
		},
		CostNow: price.Cost{Currency: "kr", Hour: 0.02, Month: 14.6},
		Seconds: 12,
		Rate:    10,
		Promise: 240,
		Longest: []string{"net", "host"},
		Public:  []string{"host"},
		Data:    []string{"store"},
		Reads:   []string{"light/word"},
		Quota: []proposing.QuotaLine{
			{Region: "north-fell", Name: "vcpus", Limit: 32, Used: 4, Adds: 2, Left: 26, Wanted: 3},
			{Region: "long-sound", Name: "networks", Limit: 5, Left: 4},
		},
		Compliance: []render.Compliance{
			{Input: "size", By: "fleet, 9 boats", What: "vcpus", Needed: "2", Chosen: "1"},
			{Input: "size", By: "the least machine", What: "memory", Needed: "4GiB", Chosen: "4GiB", Met: true},
		},
		Inputs: []render.InputValue{{Name: "size", Value: "plain-2", Origin: "--input", Advice: "for 9 boats"}},
	}
}

func TestAReviewInMarkdownHoldsEverythingAndBreaksNoTable(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	review.Markdown(&out, reviewedProposal())
	got := out.String()
	for _, want := range []string{"# Proposal 12 for stack light: 1 to create, 1 to alter\n",
		"saltmere-lab in region north-fell, template beacon 1.0.0, proposed by runa, open\n",
		"- [ ] `cost`: about 40 \\| month\n", "- [ ] `lose-data`: what &lt;store&gt; holds\n",
		"| warning | `host.image` | it ends on 2027-01-01<br>and is old | choose a newer one |",
		"| create | `door` | firewall |", "| `size` | plain-1 | plain-2 |", "from 10.0.0.0/8, port 80<br>port 443",
		"a difference of +22 a month", "not told for door",
		"- holds data: `store`\n", "- reads the secrets: `light/word`\n",
		"| north-fell | vcpus | 32 | 4 | 2 | 26 | 3 |", "| `size` | fleet, 9 boats | vcpus | 2 | 1 | **no** |",
		"| `size` | plain-2 | --input |"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q", want)
		}
	}
	if strings.Contains(got, "`net`") {
		t.Error("what stays the same is in the way")
	}
	columns := 0
	for i, line := range strings.Split(got, "\n") {
		if !strings.HasPrefix(line, "|") {
			columns = 0
			continue
		}
		n := strings.Count(strings.ReplaceAll(line, `\|`, ""), "|")
		if columns == 0 {
			columns = n
		}
		if n != columns {
			t.Errorf("line %d has %d bars and its table %d: %s", i+1, n, columns, line)
		}
	}
}

func TestAProposalTellsWhatAReviewerAsks(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	(&app{}).printProposal(&out, reviewedProposal())
	got := strings.Join(strings.Fields(out.String()), " ")
	for _, want := range []string{"needs 1 of 2 met; vcpus of size: 2 is needed by fleet, 9 boats, 1 is chosen",
		"quota vcpus 26 of 32 left, 3 of it wanted by other proposals; long-sound networks 4 of 5 left",
		"public host", "data store", "reads light/word", "consent cost: about 40 | month",
		"next: undersail accept 12 --agree cost --agree lose-data", "size: for 9 boats",
		"duration about 2m 00s (12s real), where the template says 4m 00s; decided by net > host",
		"1 more stay the same", "0.050 kr an hour, about 36 a month (25 ahead), 7 of it licences"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q:\n%s", want, out.String())
		}
	}
}

func TestACostThatIsNotToldIsNotZero(t *testing.T) {
	t.Parallel()
	for want, c := range map[string]price.Cost{
		"nothing that has a price":                    {},
		"not told: the cloud tells no price for host": {Untold: []string{"host"}},
		"0.100 kr an hour, about 73 a month":          {Currency: "kr", Hour: 0.1, Month: 73},
	} {
		if got := review.CostLine(c, price.Cost{}); got != want {
			t.Errorf("%+v: %q, want %q", c, got, want)
		}
	}
	untold := price.Cost{Untold: []string{"host"}}
	if got, more := priced(untold, 0, 3), priced(untold, 0.5, 1); got != "not told" || more != "0.5 and more" {
		t.Errorf("%q and %q", got, more)
	}
}

func TestAnAddressMapIsDrawnInRows(t *testing.T) {
	t.Parallel()
	at := netip.MustParsePrefix
	m := accounts.AddressMap{Account: "saltmere-lab", Region: "north-fell", At: time.Now(), Map: &address.Map{
		Areas: []address.Area{
			{
				Range:     at("10.1.0.0/22"),
				Kind:      address.Network,
				ID:        "net-1",
				Name:      "harbour",
				Addresses: 1024,
				Parts: []address.Area{{
					Range:     at("10.1.0.0/24"),
					Kind:      address.Subnet,
					ID:        "sub-1",
					Name:      "front",
					Addresses: 256,
					Used:      64,
				}},
				Free: []netip.Prefix{at("10.1.1.0/24"), at("10.1.2.0/23")},
			},
			{Range: at("10.2.0.0/24"), Kind: address.Wanted, Name: "proposal 3", Addresses: 256},
		},
		Free: []netip.Prefix{at("10.0.0.0/16"), at("172.16.0.0/12")}, Next: []netip.Prefix{at("10.0.0.0/20")}}}
	var out bytes.Buffer
	printAddresses(&out, m, 20)
	got := strings.Join(strings.Fields(out.String()), " ")
	for _, want := range []string{"10.1.0.0/22 network 1024 256 (25%) harbour (net-1)",
		"10.1.0.0/24 subnet 256 64 (25%) front (sub-1)", "10.1.1.0/24 free 256 - and 1 more free",
		"10.2.0.0/24 proposed 256 - proposal 3",
		"free private ranges: 10.0.0.0/16, 172.16.0.0/12", "free /20: 10.0.0.0/20"} {
		if !strings.Contains(got, want) {
			t.Errorf("it does not say %q:\n%s", want, out.String())
		}
	}
	out.Reset()
	printAddresses(&out, accounts.AddressMap{Map: &address.Map{}}, 8)
	if got := out.String(); !strings.Contains(got, "nothing is taken") || !strings.Contains(got, "free /8: none") {
		t.Error(got)
	}
}

func TestOffersAreNarrowedByWhatIsAsked(t *testing.T) {
	t.Parallel()
	sold := func() *offer.Offers {
		return &offer.Offers{
			Region: "north-fell",
			Zones:  []string{"a", "b"},
			Sizes: []offer.Size{
				{
					Name:         "plain-2",
					Family:       "plain",
					VCPUs:        2,
					MemoryBytes:  8 << 30,
					Architecture: "x86_64",
					Hour:         0.04,
					Speed:        1,
					Zones:        []string{"a", "b"},
				},
				{
					Name:         "brisk-8",
					Family:       "brisk",
					VCPUs:        8,
					MemoryBytes:  32 << 30,
					Architecture: "x86_64",
					Hour:         0.3,
					Speed:        1.4,
					NetworkGbps:  10,
					DiskMBps:     900,
					Zones:        []string{"a"},
				},
				{
					Name:         "frugal-8",
					Family:       "frugal",
					VCPUs:        8,
					MemoryBytes:  16 << 30,
					Architecture: "arm64",
					Hour:         0.2,
					Speed:        0.8,
					DiskMBps:     100,
					Zones:        []string{"b"},
				},
			},
			DiskTypes: []offer.DiskType{{Name: "solid", Zones: []string{"a"}}, {Name: "bulk", Zones: []string{"b"}}},
			Images: []offer.Image{
				{Name: "coast-1", Architecture: "x86_64"},
				{Name: "coast-1-arm", Architecture: "arm64"},
			},
		}
	}
	for _, c := range []struct {
		about string
		p     picked
		want  string
	}{
		{"nothing", picked{}, "plain-2 brisk-8 frugal-8 solid bulk coast-1 coast-1-arm"},
		{"price", picked{sort: "price"}, "plain-2 frugal-8 brisk-8 solid bulk coast-1 coast-1-arm"},
		{"speed", picked{sort: "speed", vcpus: 1}, "brisk-8 plain-2 frugal-8 solid bulk coast-1 coast-1-arm"},
		{"memory", picked{sort: "memory", memory: "16GiB"}, "brisk-8 frugal-8 solid bulk coast-1 coast-1-arm"},
		{"disk", picked{sort: "disk"}, "brisk-8 frugal-8 plain-2 solid bulk coast-1 coast-1-arm"},
		{"architecture", picked{architecture: "arm64"}, "frugal-8 solid bulk coast-1-arm"},
		{"zone", picked{zone: "a"}, "plain-2 brisk-8 solid coast-1 coast-1-arm"},
		{"family", picked{families: []string{"brisk", "frugal"}}, "brisk-8 frugal-8 solid bulk coast-1 coast-1-arm"},
	} {
		o := sold()
		if err := c.p.narrow(o); err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, s := range o.Sizes {
			names = append(names, s.Name)
		}
		for _, d := range o.DiskTypes {
			names = append(names, d.Name)
		}
		for _, i := range o.Images {
			names = append(names, i.Name)
		}
		if got := strings.Join(names, " "); got != c.want {
			t.Errorf("by %s: %s, want %s", c.about, got, c.want)
		}
	}
	for p, want := range map[*picked]string{
		{memory: "a lot"}: "--memory: ",
		{zone: "c"}:       `region north-fell has no zone "c"; its zones are a, b`,
	} {
		if err := p.narrow(sold()); codeOf(err) != exitUsage || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v", p, err)
		}
	}
}

func TestAVariantsMonthIsReadBehindTheLastEqualsSign(t *testing.T) {
	t.Parallel()
	got, err := amounts([]string{"licence=own=90.5", "small=0"})
	if err != nil || len(got) != 2 || got["licence=own"] != 90.5 {
		t.Errorf("%v, %v", got, err)
	}
	for _, bad := range []string{"own", "own=", "own=-1", "own=many"} {
		_, err := amounts([]string{bad})
		if codeOf(err) != exitUsage || !strings.Contains(err.Error(), fmt.Sprintf("not %q", bad)) {
			t.Errorf("%s: %v", bad, err)
		}
	}
}

func TestVariantsAreMadeOfWhatIsNamed(t *testing.T) {
	t.Parallel()
	tmpl, found := lang.Read("site.sail.yaml", []byte(template))
	if tmpl == nil {
		t.Fatal(found)
	}
	file := write(t, "storm.inputs.yaml", "port: 443\n")
	list, err := variants(&cobra.Command{}, tmpl, []string{"small"}, []string{file}, []string{"port=80,8080"},
		[]string{"long-sound"})
	if err != nil {
		t.Fatal(err)
	}
	raw, _ := json.Marshal(list)
	var names []string
	for _, v := range list {
		names = append(names, v.Name)
	}
	if got := strings.Join(names, " "); got != "small storm port=80 port=8080 long-sound" {
		t.Errorf("%s: %s", got, raw)
	}
	if list[0].Preset != "small" || list[4].Region != "long-sound" || fmt.Sprint(list[3].Inputs["port"]) != "8080" ||
		fmt.Sprint(list[1].Layers[0].Inputs["port"]) != "443" {
		t.Errorf("%s", raw)
	}
	for _, bad := range []string{"port", "port="} {
		if _, err := variants(&cobra.Command{}, tmpl, nil, nil, []string{bad}, nil); codeOf(err) != exitUsage {
			t.Errorf("--vary %s: %v", bad, err)
		}
	}
}

func TestRejectionsForTheSameReasonStandTogether(t *testing.T) {
	t.Parallel()
	no := func(region, size, disk, why string) fit.Answer {
		return fit.Answer{
			Region:   region,
			Size:     offer.Size{Name: size},
			DiskType: disk,
			WhyNot:   []fit.Reason{{Message: why}},
		}
	}
	groups := alike([]fit.Answer{no("north-fell", "plain-1", "", "plain-1 has 1 vcpus"),
		no("long-sound", "plain-1", "", "plain-1 has 1 vcpus"),
		no("north-fell", "plain-2", "", "north-fell has no room"),
		no("north-fell", "plain-1", "solid", "plain-1 has 1 vcpus"),
		no("north-fell", "tiny-1", "", "tiny-1 has 1 vcpus")})
	var sizes []int
	for _, g := range groups {
		sizes = append(sizes, len(g))
	}
	if fmt.Sprint(sizes) != "[3 1 1]" {
		t.Errorf("groups of %v", sizes)
	}
	if got := once([]string{"a", "b", "a", "c", "d", "e", "f", "g", "h"}); got != "a, b, c, d, e, f and 2 more" {
		t.Error(got)
	}
	got := tightest(map[string]int64{"vcpus": 9, "networks": 2, "disk_gib": 500})
	if got != "networks 2, vcpus 9, ..." {
		t.Error(got)
	}
}

// answering is a service that gives one answer to everything, and keeps what it was
// asked.
func answering(t *testing.T, answer any) (address string, asked *string) {
	t.Helper()
	asked = new(string)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var body bytes.Buffer
		body.ReadFrom(r.Body)
		*asked = r.Method + " " + r.URL.RequestURI() + " " + body.String()
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(answer)
	}))
	t.Cleanup(server.Close)
	return server.URL, asked
}

func TestANeedOfFlagsArrivesAndAnEmptyAnswerIsAnExitCode(t *testing.T) {
	t.Setenv("UNDERSAIL_TOKEN", "t")
	address, asked := answering(t, proposing.Found{Others: 3})
	t.Setenv("UNDERSAIL_URL", address)
	out, _, err := execute(t, "", "fit", "--account", "saltmere-lab", "--vcpus", "4", "--memory", "16GiB", "--disk",
		"2TiB", "--work", "log", "--figure", "plain-8=410", "--prefer", "plain-8", "--by", "figures")
	if codeOf(err) != exitFindings || !strings.Contains(out, "0 ways fit and 3 do not") {
		t.Errorf("%v\n%s", err, out)
	}
	for _, want := range []string{`"vcpus":4`, `"memory_bytes":17179869184`, `"bytes":2199023255552`, `"work":"log"`,
		`"plain-8":410`, `"by":"figures"`} {
		if !strings.Contains(*asked, want) {
			t.Errorf("the service was not asked for %s: %s", want, *asked)
		}
	}
	for flag, want := range map[string]string{
		"--memory=much":       "--memory: ",
		"--figure=plain-8":    "--figure takes SIZE=FIGURE",
		"--figure=plain-8=-1": "positive",
		"--work=baking":       "--work is one of",
	} {
		_, _, err := execute(t, "", "fit", "--account", "saltmere-lab", flag)
		if codeOf(err) != exitUsage || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", flag, err)
		}
	}
	if _, _, err := execute(t, "", "fit"); codeOf(err) != exitUsage || !strings.Contains(err.Error(), "--account") {
		t.Errorf("without an account: %v", err)
	}
}
