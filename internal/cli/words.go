package cli

import (
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"undersail/internal/core/resource"
	"undersail/internal/review"
)

// asOf says how old offers are.
func asOf(at time.Time) string {
	if at.IsZero() {
		return "it is not known when the offers were told"
	}
	age := time.Since(at)
	text := "offers as of " + at.Local().Format("2006-01-02 15:04")
	switch {
	case age < 90*time.Second:
		return text
	case age < 2*time.Hour:
		text += fmt.Sprintf(", %d minutes ago", int(age.Minutes()))
	default:
		text += fmt.Sprintf(", %s ago", resource.FormatSpan(int64(age.Hours())*3600))
	}
	if age > 15*time.Minute {
		text += ": they are old"
	}
	return text
}

// zonesIn tells zones in short: what they share with the region's name is left out.
func zonesIn(region string, zones []string) string {
	short := make([]string, len(zones))
	for i, z := range zones {
		short[i] = strings.TrimPrefix(z, region+"-")
	}
	return review.OrDash(strings.Join(short, " "))
}

// dataWords tells an amount of data in few characters.
func dataWords(bytes int64) string {
	exact := resource.FormatData(bytes)
	switch {
	case bytes == 0:
		return "-"
	case len(exact) <= 7:
		return exact
	case bytes >= 1<<40:
		return fmt.Sprintf("%.3gTiB", float64(bytes)/(1<<40))
	}
	return fmt.Sprintf("%.3gGiB", float64(bytes)/(1<<30))
}

// money tells an amount; 0 is one that is not told or not sold.
func money(amount float64, digits int) string {
	if amount == 0 {
		return "-"
	}
	return strconv.FormatFloat(amount, 'f', digits, 64)
}

// wrapped writes a text in lines of at most 96 characters, indented.
func wrapped(w io.Writer, text string, indent int) {
	line := strings.Repeat(" ", indent)
	for i, word := range strings.Fields(text) {
		if i > 0 && len([]rune(line))+1+len([]rune(word)) > 96 {
			fmt.Fprintln(w, line)
			line = strings.Repeat(" ", indent+2) + word
			continue
		}
		if i > 0 {
			line += " "
		}
		line += word
	}
	fmt.Fprintln(w, line)
}

// figure tells a figure of a machine; 0 is not told.
func figure(v float64) string {
	if v == 0 {
		return "-"
	}
	if v >= 100 {
		return fmt.Sprintf("%.0f", v)
	}
	return fmt.Sprintf("%.3g", v)
}
