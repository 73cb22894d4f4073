// Package lang reads template files: text to a syntax tree with positions, the
// tree to a checked template whose expressions are compiled and whose order is
// known. Every fault found is a [Diagnostic] that names the place and the
// remedy; reading goes on after a fault, so that all of them are reported at
// once.
//
// The package reads bytes it is given. It opens no files and knows no cloud.
package lang

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Severity ranks a diagnostic.
type Severity string

// The severities.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Position is a place in a file. Line and Column count from 1; columns count
// characters.
type Position struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Diagnostic is one fault of a file.
type Diagnostic struct {
	Severity Severity `json:"severity"`
	// Code is a stable short name such as unknown-name.
	Code string `json:"code"`
	File string `json:"file"`
	Position
	Message string `json:"message"`
	Remedy  string `json:"remedy,omitempty"`
	// Source is the line of the file at the position.
	Source string `json:"source,omitempty"`
}

// Diagnostics is what a reader found, in the order of the file.
type Diagnostics []Diagnostic

// HasErrors reports whether any diagnostic is an error.
func (d Diagnostics) HasErrors() bool {
	return slices.ContainsFunc(d, func(x Diagnostic) bool { return x.Severity == Error })
}

// Error joins the errors, so that Diagnostics can travel as an error.
func (d Diagnostics) Error() string {
	var b strings.Builder
	for _, x := range d {
		fmt.Fprintf(&b, "%s:%d:%d: %s\n", x.File, x.Line, x.Column, x.Message)
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Text shows a diagnostic with its source line and a caret below the place.
func (d Diagnostic) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s:%d:%d: %s: %s (%s)\n", d.File, d.Line, d.Column, d.Severity, d.Message, d.Code)
	if d.Source != "" {
		number := fmt.Sprintf("%5d", d.Line)
		source, lead := window([]rune(d.Source), d.Column-1)
		fmt.Fprintf(&b, "%s | %s\n", number, source)
		fmt.Fprintf(&b, "%s | %s^\n", strings.Repeat(" ", len(number)), lead)
	}
	if d.Remedy != "" {
		fmt.Fprintf(&b, "      remedy: %s\n", d.Remedy)
	}
	return b.String()
}

// window cuts a long line around a column and returns it with the blanks that
// lead to the column; tabs stay tabs so that the caret lines up.
func window(line []rune, column int) (source, lead string) {
	const before, width = 60, 110
	start := 0
	if len(line) > width && column > before {
		start = column - before
	}
	end := min(len(line), start+width)
	cut := min(max(column, start), len(line))
	blanks := []rune{}
	for _, r := range line[min(start, cut):cut] {
		if r != '\t' {
			r = ' '
		}
		blanks = append(blanks, r)
	}
	return string(line[min(start, end):end]), string(blanks)
}

// report collects diagnostics of one file.
type report struct {
	file  string
	lines []string
	found Diagnostics
	// brokenFunctions have a fault of their own; calls of them have none.
	brokenFunctions map[string]bool
}

// lineBreaks makes one kind of line break of the three that YAML knows.
var lineBreaks = strings.NewReplacer("\r\n", "\n", "\r", "\n")

func newReport(file string, source []byte) *report {
	return &report{
		file:            file,
		brokenFunctions: map[string]bool{},
		lines:           strings.Split(lineBreaks.Replace(string(source)), "\n"),
	}
}

func (r *report) add(severity Severity, code string, at Position, message, remedy string) {
	at.Line = min(max(at.Line, 1), len(r.lines))
	at.Column = max(at.Column, 1)
	r.found = append(r.found, Diagnostic{Severity: severity, Code: code, File: r.file, Position: at,
		Message: message, Remedy: remedy, Source: r.lines[at.Line-1]})
}

func (r *report) errorf(code string, at Position, remedy, format string, args ...any) {
	r.add(Error, code, at, fmt.Sprintf(format, args...), remedy)
}

// rank puts the file itself before those that it embeds.
func (r *report) rank(d Diagnostic) int {
	if d.File == r.file {
		return 0
	}
	return 1
}

// sorted returns the diagnostics in file order, the same one only once.
func (r *report) sorted() Diagnostics {
	slices.SortStableFunc(r.found, func(a, b Diagnostic) int {
		return cmp.Or(r.rank(a)-r.rank(b), cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line),
			cmp.Compare(a.Column, b.Column), cmp.Compare(a.Message, b.Message))
	})
	return slices.CompactFunc(r.found, func(a, b Diagnostic) bool {
		return a.File == b.File && a.Position == b.Position && a.Message == b.Message
	})
}
