package offer

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"undersail/internal/core/resource"
)

// Limit bounds the values of a property. Zero fields bound nothing.
type Limit struct {
	// Shortest and Longest bound the prefix of a range in bits; IPv4 says that no
	// other family will do.
	Shortest int  `json:"shortest,omitempty"`
	Longest  int  `json:"longest,omitempty"`
	IPv4     bool `json:"ipv4,omitempty"`
	// Step is what an amount of data must be a multiple of, in bytes.
	Step int64 `json:"step,omitempty"`
	// Least and Most bound how much it is: bytes of data or of a first-boot document,
	// seconds of a span, a whole number itself, letters of text, or items of a list.
	Least int64 `json:"least,omitempty"`
	Most  int64 `json:"most,omitempty"`
	// Pattern (RE2) is what text, or each text of a list, must match as a whole; Says puts
	// it in words.
	Pattern string `json:"pattern,omitempty"`
	Says    string `json:"says,omitempty"`
	// Needs is how many hosts each zone of a layout needs, by the value.
	Needs map[string]int64 `json:"needs,omitempty"`
}

// Breaks tells why a value of a shape is beyond the limit, with what would do, or "".
// Path is where in the value, such as [2]. What is not known yet breaks nothing.
func (l Limit) Breaks(shape resource.Shape, value any) (path, why, instead string) {
	switch v := value.(type) {
	case []any:
		if why, instead = l.amount(int64(len(v)), "", plainly, " in all"); why != "" {
			return "", why, instead
		}
		if shape.Items == nil {
			return "", "", ""
		}
		each := l
		each.Least, each.Most = 0, 0
		for i, item := range v {
			if path, why, instead = each.Breaks(*shape.Items, item); why != "" {
				return fmt.Sprintf("[%d]%s", i, path), why, instead
			}
		}
		return "", "", ""
	case map[string]any:
		return l.mapping(shape, v)
	case int64:
		why, instead = l.amount(v, "", plainly, "")
	case int:
		why, instead = l.amount(int64(v), "", plainly, "")
	case string:
		why, instead = l.text(shape.Kind, v)
	}
	return "", why, instead
}

func (l Limit) mapping(shape resource.Shape, v map[string]any) (path, why, instead string) {
	switch {
	case shape.Kind == resource.Open:
		known := resource.Known(v)
		if l.Least == 0 && resource.MostOfCloudConfig(known) <= l.Most {
			return "", "", ""
		}
		if raw, err := resource.CloudConfig(known); err == nil {
			why, instead = l.amount(int64(len(raw)), fmt.Sprintf("it has %d bytes, and ", len(raw)), plainly, " bytes")
		}
	case shape.Items != nil && shape.Items.Kind == resource.Range:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			if _, why, instead = l.Breaks(*shape.Items, v[name]); why != "" {
				return "." + name, why, instead
			}
		}
	default:
		why, instead = l.amount(int64(len(v)), "", plainly, " in all")
	}
	return "", why, instead
}

// text holds text of a kind against the limit.
func (l Limit) text(kind resource.Kind, text string) (why, instead string) {
	switch kind {
	case resource.Range:
		return l.lengths(text)
	case resource.Data:
		bytes, err := resource.ParseData(text)
		if err != nil {
			return "", ""
		}
		if l.Step > 0 && bytes%l.Step != 0 {
			return "it comes in whole " + resource.FormatData(l.Step)[1:], "round it up to " +
				resource.FormatData((bytes/l.Step+1)*l.Step)
		}
		return l.amount(bytes, "", resource.FormatData, "")
	case resource.Span:
		seconds, err := resource.ParseSpan(text)
		if err != nil {
			return "", ""
		}
		return l.amount(seconds, "", resource.FormatSpan, "")
	}
	if l.Pattern != "" {
		if re, err := regexp.Compile(`^(?:` + l.Pattern + `)$`); err == nil && !re.MatchString(text) {
			return "what it takes is " + l.Says, "write " + l.Says
		}
	}
	letters := int64(utf8.RuneCountInString(text))
	return l.amount(letters, fmt.Sprintf("it has %d letters, and ", letters), plainly, " letters")
}

func (l Limit) lengths(text string) (why, instead string) {
	p, err := resource.ParseRange(text)
	switch {
	case err != nil:
	case l.IPv4 && !p.Addr().Is4():
		return "only IPv4 ranges will do", "choose an IPv4 range, such as 10.40.0.0/20"
	case l.Shortest > 0 && p.Bits() < l.Shortest, l.Longest > 0 && p.Bits() > l.Longest:
		return fmt.Sprintf("ranges go from /%d to /%d", l.Shortest, l.Longest), "choose a range of another length"
	}
	return "", ""
}

func plainly(n int64) string { return fmt.Sprint(n) }

// amount holds how much something is against the least and the most.
func (l Limit) amount(n int64, first string, write func(int64) string, unit string) (why, instead string) {
	switch {
	case n >= l.Least && (l.Most == 0 || n <= l.Most):
		return "", ""
	case l.Most == 0:
		return first + "the least is " + write(l.Least) + unit, "choose " + write(l.Least) + unit + " or more"
	case l.Least == 0:
		return first + "the most is " + write(l.Most) + unit, "choose at most " + write(l.Most) + unit
	}
	between := "from " + write(l.Least) + " to " + write(l.Most) + unit
	return first + "it goes " + between, "choose " + between
}

// Words tells in a line what is taken of a value of a shape.
func (l Limit) Words(shape resource.Shape) string {
	write, unit := plainly, ""
	switch {
	case shape.Kind == resource.Data:
		write = resource.FormatData
	case shape.Kind == resource.Span:
		write = resource.FormatSpan
	case shape.Kind == resource.String:
		unit = " letters"
	case shape.Kind == resource.Open:
		unit = " bytes"
	case shape.Kind == resource.List || shape.Kind == resource.Map:
		unit = " in all"
	}
	var parts []string
	if l.IPv4 {
		parts = append(parts, "IPv4 ranges")
	}
	if l.Shortest > 0 || l.Longest > 0 {
		parts = append(parts, fmt.Sprintf("from /%d to /%d", l.Shortest, l.Longest))
	}
	if l.Least > 0 || l.Most > 0 {
		_, instead := l.amount(-1, "", write, unit)
		if l.Least == 0 {
			instead = "choose at most " + write(l.Most) + unit
		}
		parts = append(parts, strings.TrimPrefix(instead, "choose "))
	}
	if l.Step > 0 {
		parts = append(parts, "whole "+resource.FormatData(l.Step)[1:])
	}
	if l.Says != "" {
		parts = append(parts, l.Says)
	}
	for _, value := range slices.Sorted(maps.Keys(l.Needs)) {
		parts = append(parts, fmt.Sprintf("%s by %d or more hosts in each zone", value, l.Needs[value]))
	}
	return strings.Join(parts, "; ")
}
