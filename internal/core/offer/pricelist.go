package offer

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"

	"go.yaml.in/yaml/v4"
)

// PriceList are prices that an account has of its own: what was agreed with its cloud, or
// what a cloud that tells none costs whoever runs it.
type PriceList struct {
	// Currency is that of the prices, such as kr.
	Currency string `json:"currency" yaml:"currency"`
	// Sizes are prices of an hour by the name of a size, DiskTypes of a GiB and hour by
	// the name of a disk type, Address of a public address and hour; 0 is not told.
	Sizes     map[string]float64 `json:"sizes,omitempty" yaml:"sizes"`
	DiskTypes map[string]float64 `json:"disk_types,omitempty" yaml:"disk_types"`
	Address   float64            `json:"address,omitempty" yaml:"address"`
}

var currencyName = regexp.MustCompile(`^\pL{1,8}$`)

// ReadPriceList reads one from YAML. The error names the line.
func ReadPriceList(text []byte) (PriceList, error) {
	var l PriceList
	d := yaml.NewDecoder(bytes.NewReader(text))
	d.KnownFields(true)
	if err := d.Decode(&l); err != nil && !errors.Is(err, io.EOF) {
		return l, fmt.Errorf("read the price list: %w", err)
	}
	return l, l.Check()
}

// Check says what is wrong with a list.
func (l PriceList) Check() error {
	if !currencyName.MatchString(l.Currency) {
		return fmt.Errorf("the price list wants a currency such as kr, not %q", l.Currency)
	}
	for _, prices := range []map[string]float64{l.Sizes, l.DiskTypes, {"address": l.Address}} {
		for name, price := range prices {
			if price < 0 || math.IsNaN(price) || math.IsInf(price, 0) {
				return fmt.Errorf("the price of %s is %g; write an amount of money for an hour", name, price)
			}
		}
	}
	return nil
}

// Over lays the list over what the cloud tells. Where the list has another currency, what
// it does not name is not told: two currencies do not add up.
func (l PriceList) Over(o *Offers) {
	if l.Currency == "" {
		return
	}
	other := l.Currency != o.Currency
	o.Currency = l.Currency
	if other {
		o.AddressHour = 0
	}
	if l.Address > 0 {
		o.AddressHour = l.Address
	}
	for i := range o.Sizes {
		s := &o.Sizes[i]
		own, listed := l.Sizes[s.Name]
		if other || listed {
			s.Hour, s.Month = own, 0
		}
	}
	for i := range o.DiskTypes {
		d := &o.DiskTypes[i]
		own, listed := l.DiskTypes[d.Name]
		if other || listed {
			d.GiBHour = own
		}
	}
	if !other {
		return
	}
	for i := range o.Images {
		for k := range o.Images[i].Licences {
			o.Images[i].Licences[k].VCPUHour = 0
		}
	}
}

// Unknown names what of the list is not sold in a region, so that a slip is seen.
func (l PriceList) Unknown(o *Offers) []string {
	var out []string
	for name := range l.Sizes {
		if _, ok := o.Size(name); !ok {
			out = append(out, name)
		}
	}
	for name := range l.DiskTypes {
		if _, ok := o.DiskType(name); !ok {
			out = append(out, name)
		}
	}
	return out
}
