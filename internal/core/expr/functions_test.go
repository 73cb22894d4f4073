package expr

import (
	"slices"
	"strings"
	"testing"

	"cel.dev/cel-go/cel"

	"undersail/internal/core/offer"
	"undersail/internal/core/resource"
)

// result checks and evaluates an expression with offers, an amount d, a span s,
// an optional o without and one p with a value, and a secret optional w.
func result(t *testing.T, text string) (any, string) {
	t.Helper()
	offers := &offer.Offers{
		Region: "north-fell",
		Zones:  []string{"a", "b"},
		Sizes: []offer.Size{
			{
				Name:         "small",
				VCPUs:        1,
				MemoryBytes:  4 << 30,
				Architecture: "x86_64",
				Hour:         0.02,
				Zones:        []string{"a", "b"},
			},
			{Name: "medium", VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64", Hour: 0.08, Zones: []string{"a"}},
			{Name: "odd", VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "arm64", Hour: 0.06, Zones: []string{"b"}},
			{Name: "gone", VCPUs: 4, MemoryBytes: 16 << 30, Architecture: "x86_64", Hour: 0.01},
		},
		DiskTypes: []offer.DiskType{
			{
				Name:     "slow",
				For:      []string{"bulk", "log"},
				GiBHour:  0.0001,
				MinBytes: 1 << 30,
				MaxBytes: 16 << 40,
				MBps:     40,
				MBpsTiB:  40,
				MBpsMost: 500,
				Ops:      100,
				OpsMost:  500,
				Zones:    []string{"a", "b"},
			},
			{
				Name:     "quick",
				For:      []string{"small-writes", "log"},
				GiBHour:  0.0003,
				MinBytes: 1 << 30,
				MaxBytes: 16 << 40,
				MBps:     250,
				Ops:      8000,
				OpsTiB:   20000,
				OpsMost:  100000,
				Zones:    []string{"a"},
			},
		},
		Images: []offer.Image{
			{Name: "deb-11", System: "deb", Version: "11", Architecture: "x86_64"},
			{Name: "deb-9", System: "deb", Version: "9.9", Architecture: "x86_64"},
			{Name: "deb-12-arm", System: "deb", Version: "12", Architecture: "arm64"},
		},
	}
	structs := OffersStructs()
	for _, need := range Needs {
		structs[need.TypeName] = map[string]*cel.Type{}
		for _, f := range need.Fields {
			structs[need.TypeName][f.Name] = TypeOf(f.Shape)
		}
	}
	f, problems := NewFunction("twice",
		[]Parameter{{"v", resource.Shape{Kind: resource.Data}}, {"n", resource.Shape{Kind: resource.Integer}}},
		"v * 2 * n", nil, nil)
	if problems != nil {
		t.Fatal(problems)
	}
	g, problems := NewFunction("fourfold", []Parameter{{"n", resource.Shape{Kind: resource.Data}}}, "twice(n, 2)",
		[]*Function{f}, nil)
	if problems != nil {
		t.Fatal(problems)
	}
	text0 := cel.OptionalType(cel.StringType)
	env := NewEnv(Scope{
		Structs:   structs,
		Functions: []*Function{f, g},
		Files:     map[string]string{"motd.txt": "hello"},
		Vars: map[string]*cel.Type{
			"offers":  cel.ObjectType("offers"),
			"d":       AmountType,
			"s":       SpanType,
			"n":       cel.IntType,
			"o":       text0,
			"p":       text0,
			"w":       text0,
			"pending": cel.StringType,
		},
	})
	program, problems := env.Check(text)
	if problems != nil {
		return nil, problems[0].Message
	}
	v, err := program.Eval(NewVars().With(map[string]any{
		"offers":  OffersValue(offers),
		"d":       Typed(resource.Shape{Kind: resource.Data}, "16GiB"),
		"s":       Typed(resource.Shape{Kind: resource.Span}, "90m"),
		"n":       int64(3),
		"o":       Absent,
		"p":       Some("x"),
		"w":       Some(resource.Unresolved{Secrets: []string{"k"}}),
		"pending": resource.Unresolved{Waits: []string{"a.id"}},
	}))
	if err != nil {
		return nil, err.Error()
	}
	return v, ""
}

func TestFunctionsAndQuantities(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		text string
		want any
	}{
		{`amount("1.5TiB")`, "1536GiB"},
		{`amount("500GB")`, "500GB"},
		{`amount("16GiB") * 0.5`, "8GiB"},
		{`3 * d`, "48GiB"},
		{`0.25 * d`, "4GiB"},
		{`d / 4 * 4`, "16GiB"},
		{`d + amount("512MiB")`, "16896MiB"},
		{`d - amount("1GiB")`, "15GiB"},
		{`d / amount("4GiB")`, 4.0},
		{`d > amount("15GiB")`, true},
		{`d == amount("16384MiB")`, true},
		{`string(d)`, "16GiB"},
		{`int(amount("1KiB"))`, int64(1024)},
		{`s * 2`, "3h"},
		{`s / span("30m")`, 3.0},
		{`string(span("36h"))`, "1d12h"},
		{`[d, amount("1GiB")].map(x, x * 2)`, []any{"32GiB", "2GiB"}},
		{`round_up(amount("100MiB"), amount("1GiB"))`, "1GiB"},
		{`round_up(s, span("1h"))`, "2h"},
		{`round_up(d, d)`, "16GiB"},
		{`usable("raid0", 4, amount("1TiB"))`, "4TiB"},
		{`usable("raid1", 3, amount("1TiB"))`, "1TiB"},
		{`usable("raid5", 4, amount("1TiB"))`, "3TiB"},
		{`usable("raid6", 8, amount("2TiB"))`, "12TiB"},
		{`usable("raid10", 5, amount("1TiB"))`, "2TiB"},
		{`usable("copies-2", 3, amount("1TiB"))`, "1536GiB"},
		{`usable("copies-3", 6, amount("1TiB"))`, "2TiB"},
		{`fit_size(offers, size_need{vcpus: 2})`, "odd"},
		{`fit_size(offers, size_need{vcpus: 2, architecture: "x86_64"})`, "medium"},
		{`fit_size(offers, size_need{memory: amount("4GiB"), zone: "b"})`, "small"},
		{`offers.zones`, []any{"a", "b"}},
		{`offers.sizes.filter(x, x.memory >= amount("16GiB")).map(x, x.name)`, []any{"medium", "odd"}},
		{`fit_size(offers, size_need{vcpus: 1, prefer: ["gone", "medium"]})`, "medium"},
		{`fit_size(offers, size_need{vcpus: 1, prefer: ["odd"], zone: "a"})`, "small"},
		{`fit_disk(offers, disk_need{size: amount("2TiB"), work: "bulk", mbps: 100.0})`, "slow"},
		{`fit_disk(offers, disk_need{work: "small-writes", ops: 20000.0})`, "quick"},
		{`fit_disk(offers, disk_need{work: "log"})`, "slow"},
		{`fit_image(offers, image_need{system: "deb", from: "9.10"})`, "deb-12-arm"},
		{`fit_image(offers, image_need{system: "deb", from: "9.10", architecture: "x86_64"})`, "deb-11"},
		{`lay_out(offers, layout_need{memory: amount("100GiB"), log: true}).map(a, a.use + " " + a.type)`,
			[]any{"data quick", "log slow"}},
		{`lay_out(offers, layout_need{memory: amount("100GiB"), log: true}).map(a, a.size)`, []any{"120GiB", "50GiB"}},
		{`lay_out(offers, layout_need{data: amount("4TiB"), mbps: 900.0})[0].striped`, true},
		{`usable("raid6", 8, amount("2TiB"), 0.25)`, "9TiB"},
		{`has_value(o)`, false},
		{`has_value(p)`, true},
		{`has_value(w)`, true},
		{`has_value(o) || has_value(w)`, true},
		{`fourfold(d)`, "64GiB"},
		{`twice(d, n)`, "96GiB"},
		{`[1, 2].map(n, twice(d, n))`, []any{"32GiB", "64GiB"}},
		{`file("motd.txt") + "!"`, "hello!"},
		{`regex.replace("tide-12", "[0-9]+", "x")`, "tide-x"},
		{`cidr("10.0.0.0/8").containsIP("10.1.2.3")`, true},
	} {
		got, problem := result(t, c.text)
		list, isList := c.want.([]any)
		gotList, _ := got.([]any)
		if isList && slices.Equal(list, gotList) || !isList && got == c.want {
			continue
		}
		t.Errorf("%s = %v %s, want %v", c.text, got, problem, c.want)
	}
}

func TestWhatCannotBeComputedSaysWhy(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]string{
		`usable("raid7", 3, d)`: "usable knows raid0, raid1",
		`usable("raid6", 3, d)`: "raid6 needs at least 4 disks, not 3",
		`fit_size(offers, size_need{vcpus: 9})`: "no size sold in north-fell fits; the nearest " +
			"is odd: it has 4 vcpus and 9 are needed",
		`fit_disk(offers, disk_need{work: "films"})`: `no disk is advised for "films": the work is one of bulk, steady`,
		`fit_disk(offers, disk_need{mbps: 900.0})`: "no disk type of north-fell fits; the nearest " +
			"is slow: a slow disk reaches at most 500 MB/s and 900 are needed",
		`fit_image(offers, image_need{system: "deb", from: "13"})`: "no image of north-fell is deb 13; there are deb-11",
		`lay_out(offers, layout_need{log: true})`:                  "a layout needs the memory of the machine or the size of the data",
		`usable("raid6", 8, d, 1.0)`:                               "the overhead is a share from 0 to less than 1",
		`amount("lots")`:                                           `"lots" is not an amount of data`,
		`d - amount("17GiB")`:                                      "the amount leaves the range from 0",
		`d / 0`:                                                    "division by zero",
		`round_up(d, d - d)`:                                       "round_up wants a step above nothing",
		`d * 99999999999999`:                                       "the amount leaves the range",
		`file("other.txt")`:                                        `no file "other.txt" beside the template`,
		`twice("x", 1)`:                                            "`v` of twice(v, n) is amount, and this is text",
	} {
		if _, problem := result(t, text); !strings.Contains(problem, want) {
			t.Errorf("%s: %q, want %q", text, problem, want)
		}
	}
}

func TestAFunctionsParameterNeverCapturesANameOfItsCaller(t *testing.T) {
	t.Parallel()
	// The parameter n of twice is bound around an argument that reads the outer n.
	if got, problem := result(t, `twice(d, n + n)`); got != "192GiB" {
		t.Error(got, problem)
	}
}

func TestWrittenOutFunctionsAreBounded(t *testing.T) {
	t.Parallel()
	var all []*Function
	body := "n + 1"
	for _, name := range strings.Fields("a b c d e f g h k l") {
		f, problems := NewFunction(name, []Parameter{{"n", resource.Shape{Kind: resource.Integer}}}, body, all, nil)
		if problems != nil {
			if !strings.Contains(problems[0].Message, "the function is too large") {
				t.Error(problems)
			}
			return
		}
		all = append(all, f)
		body = name + "(n) + " + name + "(n) + " + name + "(n)"
	}
	t.Error("functions that triple each other have no limit")
}

// TestAnEditOfOneNameKeepsTheOthers holds what makes checking after an edit fast:
// an expression is known again as long as the types of its own words stay.
func TestAnEditOfOneNameKeepsTheOthers(t *testing.T) {
	t.Parallel()
	scope := func(fields map[string]*cel.Type) *Env {
		return NewEnv(Scope{
			Vars:    map[string]*cel.Type{"inputs": cel.ObjectType("inputs")},
			Structs: map[string]map[string]*cel.Type{"inputs": fields},
			Local:   []string{"inputs"},
		})
	}
	const text = `inputs.kept_same + "-kept"`
	before, _ := scope(map[string]*cel.Type{"kept_same": cel.StringType, "other": cel.StringType}).Check(text)
	after, _ := scope(map[string]*cel.Type{
		"kept_same": cel.StringType,
		"other":     cel.IntType,
		"new":       cel.BoolType,
	}).Check(text)
	if before == nil || before != after {
		t.Error("it was checked again though nothing that it reads has changed")
	}
	if p, problems := scope(map[string]*cel.Type{"kept_same": cel.IntType}).Check(text); p != nil || problems == nil {
		t.Error("it was not checked again though what it reads has another type")
	}
}
