// Package resource holds the one description of every resource type a
// template can ask for: its wanted properties, its reported attributes, their
// units and limits, and what it costs to alter each of them.
//
// The types are neutral across clouds. The package describes; it never calls a
// cloud, and it knows nothing of templates or expressions.
package resource

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Kind is the kind of a value.
type Kind string

// The kinds of values. The kinds below String are all written as text.
const (
	String  Kind = "string"
	Integer Kind = "integer"
	Number  Kind = "number"
	Boolean Kind = "boolean"
	Range   Kind = "range"   // an address range in CIDR notation, host bits zero
	Address Kind = "address" // one IP address
	Data    Kind = "data"    // an amount of data such as 50GiB
	Span    Kind = "span"    // a span of time such as 90s, 10m, 1h30m, 30d
	// PublicKey is the public half of an SSH key in OpenSSH form (RFC 4253, 6.6).
	PublicKey Kind = "public_key"
	List      Kind = "list"   // of Items
	Map       Kind = "map"    // text keys to Items
	Object    Kind = "object" // with Fields
	Open      Kind = "open"   // any tree of scalars, lists and mappings
)

// Shape describes a value. Items is set for lists and maps, Fields and
// TypeName for objects.
type Shape struct {
	Kind     Kind       `json:"kind"`
	Items    *Shape     `json:"items,omitempty"`
	TypeName string     `json:"type,omitempty"`
	Fields   []Property `json:"fields,omitempty"`
	// Identity names the fields that tell items of a list apart, so that their
	// order means nothing.
	Identity []string `json:"identity,omitempty"`
	// Minimum and Maximum bound integers; Choices bounds text. Zero means unbounded.
	Minimum int64    `json:"minimum,omitempty"`
	Maximum int64    `json:"maximum,omitempty"`
	Choices []string `json:"choices,omitempty"`
	// Preferred says that a template may write a list of values instead, in order of
	// preference; the first that can be had is taken.
	Preferred bool `json:"preferred,omitempty"`
}

// Alternatives is the shape of a list of values in order of preference.
func (s Shape) Alternatives() Shape {
	s.Preferred = false
	return Shape{Kind: List, Items: &s}
}

// Scalar reports whether values of the shape are single scalars.
func (s Shape) Scalar() bool {
	switch s.Kind {
	case List, Map, Object, Open:
		return false
	}
	return true
}

// Describe names the shape as a reader of an error message would.
func (s Shape) Describe() string {
	switch s.Kind {
	case List:
		return "a list of " + plural(s.Items)
	case Map:
		return "a mapping of names to " + plural(s.Items)
	case Object:
		return "a mapping"
	case Open:
		return "any value"
	case Range:
		return "an address range such as 10.40.0.0/20"
	case Address:
		return "an IP address"
	case Data:
		return "an amount of data such as 50GiB"
	case Span:
		return "a span of time such as 90s or 10m"
	case PublicKey:
		return "an SSH public key such as the line of a .pub file"
	case Integer:
		return "a whole number"
	case Number:
		return "a number"
	case Boolean:
		return "true or false"
	}
	if len(s.Choices) > 0 {
		return "one of " + strings.Join(s.Choices, ", ")
	}
	return "text"
}

func plural(s *Shape) string {
	switch s.Kind {
	case Object:
		return "mappings"
	case Range:
		return "address ranges"
	case String:
		return "texts"
	}
	return strings.TrimPrefix(strings.TrimPrefix(s.Describe(), "a "), "an ") + "s"
}

// Field finds a field of an object shape.
func (s Shape) Field(name string) (Property, bool) {
	for _, f := range s.Fields {
		if f.Name == name {
			return f, true
		}
	}
	return Property{}, false
}

// ParseScalar reads the text of a scalar as the shape wants it. The text is
// what the author wrote: 3.10 stays "3.10" where text is wanted. The error
// says what was wanted.
func (s Shape) ParseScalar(text string) (any, error) {
	switch s.Kind {
	case Integer:
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%q is not a whole number", text)
		}
		return n, s.checkNumber(n)
	case Number:
		f, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsNaN(f) || math.IsInf(f, 0) {
			return nil, fmt.Errorf("%q is not a number", text)
		}
		return f, nil
	case Boolean:
		switch text {
		case "true":
			return true, nil
		case "false":
			return false, nil
		}
		return nil, fmt.Errorf("%q is neither true nor false", text)
	}
	return text, s.Check(text)
}

// Check verifies a scalar value of the right Go type (string, int64, float64,
// bool) against the limits of the shape. Trees are checked leaf by leaf by
// whoever walks them.
func (s Shape) Check(v any) error {
	switch s.Kind {
	case Integer:
		n, ok := v.(int64)
		if !ok {
			return fmt.Errorf("%v is not a whole number", v)
		}
		return s.checkNumber(n)
	case Number:
		switch v.(type) {
		case int64, float64:
			return nil
		}
		return fmt.Errorf("%v is not a number", v)
	case Boolean:
		if _, ok := v.(bool); !ok {
			return fmt.Errorf("%v is neither true nor false", v)
		}
		return nil
	case List, Map, Object, Open:
		return nil
	}
	text, ok := v.(string)
	if !ok {
		return fmt.Errorf("%v is not text", v)
	}
	switch s.Kind {
	case Range:
		_, err := ParseRange(text)
		return err
	case Address:
		if _, err := netip.ParseAddr(text); err != nil {
			return fmt.Errorf("%q is not an IP address", text)
		}
	case Data:
		_, err := ParseData(text)
		return err
	case Span:
		_, err := ParseSpan(text)
		return err
	case PublicKey:
		return checkPublicKey(text)
	}
	if len(s.Choices) > 0 && !slices.Contains(s.Choices, text) {
		return fmt.Errorf("%q is not one of %s", text, strings.Join(s.Choices, ", "))
	}
	return nil
}

func (s Shape) checkNumber(n int64) error {
	if s.Minimum != 0 && n < s.Minimum {
		return fmt.Errorf("%d is below the smallest allowed value %d", n, s.Minimum)
	}
	if s.Maximum != 0 && n > s.Maximum {
		return fmt.Errorf("%d is above the largest allowed value %d", n, s.Maximum)
	}
	return nil
}

// ParseRange reads an IPv4 or IPv6 range whose host bits are zero.
func ParseRange(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q is not an address range such as 10.40.0.0/20", text)
	}
	if p.Masked() != p {
		return netip.Prefix{}, fmt.Errorf("%q has host bits set; write %s", text, p.Masked())
	}
	return p, nil
}

// checkPublicKey reads one line of OpenSSH form: a type, the base64 of a blob that
// begins with the same type, and a comment.
func checkPublicKey(text string) error {
	const remedy = "; give the whole line of a .pub file, such as ssh-ed25519 AAAA... ines@saltmere.example"
	fields := strings.Fields(text)
	switch {
	case strings.Contains(text, "PRIVATE KEY"):
		return errors.New("this is a private key, which must stay where it is" + remedy)
	case len(fields) < 2:
		return errors.New("this is not an SSH public key" + remedy)
	}
	blob, err := base64.StdEncoding.DecodeString(fields[1])
	if err != nil || len(blob) < 4 {
		return errors.New("the SSH public key is cut off or garbled" + remedy)
	}
	n := int(binary.BigEndian.Uint32(blob))
	if n <= 0 || n+4 >= len(blob) || string(blob[4:4+n]) != fields[0] {
		return fmt.Errorf("the SSH public key does not hold a key of the type %s%s", fields[0], remedy)
	}
	for rest := blob[4+n:]; len(rest) > 0; { // every field says how long it is
		if len(rest) < 4 || uint64(binary.BigEndian.Uint32(rest)) > uint64(len(rest)-4) {
			return errors.New("the SSH public key is cut off" + remedy)
		}
		rest = rest[4+binary.BigEndian.Uint32(rest):]
	}
	return nil
}

var (
	dataPattern = regexp.MustCompile(`^([0-9]+(?:\.[0-9]+)?)\s*(B|kB|MB|GB|TB|KiB|MiB|GiB|TiB)$`)
	dataUnits   = map[string]float64{"B": 1, "kB": 1e3, "MB": 1e6, "GB": 1e9, "TB": 1e12,
		"KiB": 1 << 10, "MiB": 1 << 20, "GiB": 1 << 30, "TiB": 1 << 40}
	spanPattern = regexp.MustCompile(`([0-9]+)(d|h|m|s)`)
	spanWhole   = regexp.MustCompile(`^([0-9]+(d|h|m|s))+$`)
	spanUnits   = map[string]int64{"d": 86400, "h": 3600, "m": 60, "s": 1}
)

// ParseData reads an amount of data and returns bytes. Units are IEC (KiB,
// MiB, GiB, TiB) and SI (kB, MB, GB, TB).
func ParseData(text string) (int64, error) {
	// Nearly all are whole numbers with a unit, and are read often: without the pattern.
	behind := strings.TrimLeft(text, "0123456789")
	if unit, known := dataUnits[behind]; known && len(text)-len(behind) < 10 {
		if n, err := strconv.ParseInt(text[:len(text)-len(behind)], 10, 64); err == nil && n < 1<<20 {
			return n * int64(unit), nil
		}
	}
	m := dataPattern.FindStringSubmatch(text)
	if m == nil {
		return 0, fmt.Errorf("%q is not an amount of data such as 50GiB", text)
	}
	n, err := strconv.ParseFloat(m[1], 64)
	if err != nil || n*dataUnits[m[2]] > math.MaxInt64/2 {
		return 0, fmt.Errorf("%q is too large", text)
	}
	return int64(math.Round(n * dataUnits[m[2]])), nil
}

// ParseSpan reads a span of time and returns whole seconds. At most 1000 days.
func ParseSpan(text string) (int64, error) {
	if !spanWhole.MatchString(text) {
		return 0, fmt.Errorf("%q is not a span of time such as 90s, 10m or 1h30m", text)
	}
	var total int64
	for _, m := range spanPattern.FindAllStringSubmatch(text, -1) {
		n, err := strconv.ParseInt(m[1], 10, 64)
		if err != nil || n > 1000*86400 {
			return 0, fmt.Errorf("%q is longer than 1000 days", text)
		}
		total += n * spanUnits[m[2]]
	}
	if total > 1000*86400 {
		return 0, fmt.Errorf("%q is longer than 1000 days", text)
	}
	return total, nil
}

// FormatData writes bytes in the largest unit that needs no fraction, such as
// 50GiB, 500GB or 1536MiB; the shorter of the binary and the decimal form.
func FormatData(bytes int64) string {
	best := strconv.FormatInt(bytes, 10) + "B"
	for _, unit := range []string{"KiB", "MiB", "GiB", "TiB", "kB", "MB", "GB", "TB"} {
		factor := int64(dataUnits[unit])
		text := strconv.FormatInt(bytes/factor, 10) + unit
		if bytes > 0 && bytes%factor == 0 &&
			len(strings.TrimRight(text, "kKMGTiB")) < len(strings.TrimRight(best, "kKMGTiB")) {
			best = text
		}
	}
	return best
}

// FormatSpan writes seconds as days, hours, minutes and seconds, such as 1h30m.
func FormatSpan(seconds int64) string {
	if seconds == 0 {
		return "0s"
	}
	var b strings.Builder
	for _, unit := range []string{"d", "h", "m", "s"} {
		if n := seconds / spanUnits[unit]; n > 0 {
			fmt.Fprintf(&b, "%d%s", n, unit)
			seconds %= spanUnits[unit]
		}
	}
	return b.String()
}

// Holds reports whether the shape or anything inside it is of one of the kinds.
func (s Shape) Holds(kinds ...Kind) bool {
	if slices.Contains(kinds, s.Kind) || s.Items != nil && s.Items.Holds(kinds...) {
		return true
	}
	return slices.ContainsFunc(s.Fields, func(f Property) bool { return f.Shape.Holds(kinds...) })
}
