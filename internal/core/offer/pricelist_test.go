package offer

import (
	"slices"
	"strings"
	"testing"
)

func priced() *Offers {
	return &Offers{
		Currency:    "kr",
		AddressHour: 0.004,
		Sizes:       []Size{{Name: "plain-1", Hour: 0.03, Month: 15}, {Name: "plain-2", Hour: 0.05, Month: 30}},
		DiskTypes:   []DiskType{{Name: "solid", GiBHour: 0.0003}},
		Images:      []Image{{Name: "tide-base-3", Licences: []Licence{{Name: "included", VCPUHour: 0.01}}}},
	}
}

func TestAPriceListComesBeforeWhatTheCloudTells(t *testing.T) {
	t.Parallel()
	l, err := ReadPriceList([]byte("currency: kr\nsizes: {plain-1: 0.02, plian-2: 1}\ndisk_types: {solid: 0.0002}\n"))
	if err != nil {
		t.Fatal(err)
	}
	o := priced()
	if got := l.Unknown(o); !slices.Equal(got, []string{"plian-2"}) {
		t.Errorf("%v", got)
	}
	l.Over(o)
	if o.Sizes[0].Hour != 0.02 || o.Sizes[0].Month != 0 || o.Sizes[1].Hour != 0.05 || o.Sizes[1].Month != 30 ||
		o.DiskTypes[0].GiBHour != 0.0002 || o.AddressHour != 0.004 || o.Images[0].Licences[0].VCPUHour != 0.01 {
		t.Errorf("%+v", o)
	}
	// In another currency nothing of the cloud's prices is left: two do not add up.
	l.Currency = "mk"
	o = priced()
	l.Over(o)
	if o.Currency != "mk" || o.Sizes[0].Hour != 0.02 || o.Sizes[1].Hour != 0 || o.Sizes[1].Month != 0 ||
		o.AddressHour != 0 || o.Images[0].Licences[0].VCPUHour != 0 {
		t.Errorf("%+v", o)
	}
	o = priced()
	PriceList{}.Over(o)
	if o.Sizes[0].Hour != 0.03 {
		t.Error("no list changes prices")
	}
}

func TestAFaultyPriceListIsRefused(t *testing.T) {
	t.Parallel()
	for text, words := range map[string]string{
		"":                                   "currency",
		"currency: 7":                        "currency",
		"currency: kr\nsizes: {plain-1: -2}": "plain-1",
		"currency: kr\nprice: {}":            "price",
		"currency: kr\nsizes: [1]":           "line 2",
		"a":                                  "read the price list",
	} {
		if _, err := ReadPriceList([]byte(text)); err == nil || !strings.Contains(err.Error(), words) {
			t.Errorf("%q: %v", text, err)
		}
	}
}
