package storage

import (
	"strings"
	"testing"

	"undersail/internal/core/offer"
)

var region = offer.Offers{Region: "north-fell", DiskTypes: []offer.DiskType{
	{
		Name:     "cold",
		For:      []string{"archive"},
		GiBHour:  0.00002,
		MinBytes: 125 * gib,
		MaxBytes: 16 * tib,
		MBps:     12,
		MBpsTiB:  12,
		MBpsMost: 190,
		Ops:      60,
		Zones:    []string{"a", "b"},
	},
	{
		Name:     "solid",
		For:      []string{"steady", "bulk"},
		GiBHour:  0.0001,
		MinBytes: 4 * gib,
		MaxBytes: 16 * tib,
		MBps:     125,
		MBpsTiB:  60,
		MBpsMost: 900,
		Ops:      3000,
		OpsTiB:   1000,
		OpsMost:  16000,
		Zones:    []string{"a", "b"},
	},
	{
		Name:     "quick",
		For:      []string{"small-writes", "log"},
		GiBHour:  0.0003,
		MinBytes: 4 * gib,
		MaxBytes: 16 * tib,
		MBps:     250,
		MBpsTiB:  200,
		MBpsMost: 2000,
		Ops:      8000,
		OpsTiB:   20000,
		OpsMost:  120000,
		Zones:    []string{"a"},
	},
	{
		Name:     "inside",
		For:      []string{"scratch"},
		GiBHour:  0.00001,
		MinBytes: 50 * gib,
		MaxBytes: 4 * tib,
		MBps:     900,
		Ops:      60000,
		Zones:    []string{"a", "b"},
	},
}}

func TestADiskIsAsLargeAsItMustBeToBeFastEnough(t *testing.T) {
	t.Parallel()
	solid, _ := region.DiskType("solid")
	for _, c := range []struct {
		need Need
		want int64
		why  string
	}{
		{Need{}, 4 * gib, ""},
		{Need{Bytes: 10*gib + 1}, 11 * gib, ""},
		{Need{MBps: 125}, 4 * gib, ""},
		{Need{MBps: 185}, tib, ""},
		{Need{Ops: 5000}, 2 * tib, ""},
		{Need{MBps: 901}, 4 * gib, "reaches at most 900 MB/s and 901 are needed"},
		{Need{Bytes: 17 * tib}, 17 * tib, "holds at most 16TiB"},
	} {
		got, why := SizeFor(c.need, solid)
		if got != c.want || !strings.Contains(strings.Join(why, "; "), c.why) || (len(why) == 0) != (c.why == "") {
			t.Errorf("%+v: %d GiB, %v", c.need, got/gib, why)
		}
	}
}

func TestDisksAreAdvisedByTheirWork(t *testing.T) {
	t.Parallel()
	order := func(n Need) string {
		advice, err := Advise(n, &region)
		if err != nil {
			t.Fatal(err)
		}
		var names []string
		for _, a := range advice {
			if len(a.WhyNot) > 0 {
				a.Type = "-" + a.Type
			}
			names = append(names, a.Type)
		}
		return strings.Join(names, " ")
	}
	for _, c := range []struct {
		need Need
		want string
	}{
		{Need{Bytes: tib, Work: "steady"}, "solid quick cold -inside"},
		{Need{Bytes: tib, Work: "small-writes"}, "quick solid cold -inside"},
		{Need{Bytes: tib, Work: "archive"}, "cold solid quick -inside"},
		{Need{Bytes: tib, Work: "scratch"}, "inside quick solid cold"},
		{Need{Bytes: tib, Work: "log", Zone: "b"}, "solid cold -quick -inside"},
		{Need{Bytes: tib}, "cold solid quick -inside"},
	} {
		if got := order(c.need); got != c.want {
			t.Errorf("%+v: %s, want %s", c.need, got, c.want)
		}
	}
	if _, err := Advise(Need{Work: "films"}, &region); err == nil || !strings.Contains(err.Error(), "small-writes") {
		t.Error(err)
	}
}

func TestDisksAreLaidOutForMachineAndData(t *testing.T) {
	t.Parallel()
	areas, err := LayOut(LayoutNeed{Memory: 1000 * gib, Log: true}, &region)
	if err != nil || len(areas) != 2 || areas[0].Use != "data" || areas[0].Bytes*areas[0].Count < 1200*gib ||
		areas[1].Use != "log" || areas[1].Bytes*areas[1].Count < 500*gib || areas[1].Type != "quick" {
		t.Errorf("%+v %v", areas, err)
	}
	fast, err := LayOut(LayoutNeed{Data: 2 * tib, MBps: 1500}, &region)
	if err != nil || !fast[0].Striped || fast[0].Count < 2 || fast[0].MBps < 1500 ||
		fast[0].Bytes*fast[0].Count < 2*tib {
		t.Errorf("striped: %+v %v", fast, err)
	}
	if _, err := LayOut(LayoutNeed{}, &region); err == nil {
		t.Error("nothing is laid out for nothing")
	}
	if _, err := LayOut(LayoutNeed{Data: tib, MBps: 1e6}, &region); err == nil {
		t.Error("what no stripe reaches is laid out")
	}
}

func TestUsableStorageFollowsItsFormula(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		level    string
		n        int64
		overhead float64
		want     int64
	}{
		{"raid0", 4, 0, 4 * tib},
		{"raid1", 2, 0, tib},
		{"raid5", 4, 0, 3 * tib},
		{"raid6", 6, 0, 4 * tib},
		{"raid10", 6, 0, 3 * tib},
		{"copies-3", 6, 0, 2 * tib},
		{"raid5", 3, 0.25, tib * 3 / 2},
	} {
		if got, err := Usable(c.level, c.n, tib, c.overhead); err != nil || got != c.want {
			t.Errorf("%s of %d: %d, %v", c.level, c.n, got, err)
		}
	}
	for level, n := range map[string]int64{"raid6": 3, "raid5": 2, "raid7": 9} {
		if _, err := Usable(level, n, tib, 0); err == nil {
			t.Errorf("%s of %d", level, n)
		}
	}
	if _, err := Usable("raid0", 2, tib, 1); err == nil {
		t.Error("all of it is overhead")
	}
}
