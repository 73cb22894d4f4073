package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"

	"golang.org/x/term"

	"undersail/internal/review"
)

// screen is standard output or standard error, to which texts of other people go: from
// templates, outputs, machines and clouds. It shows control characters instead of
// sending them.
type screen struct{ file *os.File }

func (s screen) Write(b []byte) (int, error) {
	if _, err := io.WriteString(s.file, shown(string(b))); err != nil {
		return 0, fmt.Errorf("writing to the terminal: %w", err)
	}
	return len(b), nil
}

// raw is what lies below a screen: for what we send to the terminal ourselves, and for
// values that go into a pipe byte by byte.
func raw(w io.Writer) io.Writer {
	if s, ok := w.(screen); ok {
		return s.file
	}
	return w
}

// fileOf is the file that a writer or a reader is, or nil.
func fileOf(w any) *os.File {
	switch f := w.(type) {
	case screen:
		return f.file
	case *os.File:
		return f
	}
	return nil
}

// isTerminal tells whether a reader or a writer is a terminal.
func isTerminal(x any) bool {
	f := fileOf(x)
	return f != nil && term.IsTerminal(int(f.Fd()))
}

// shown writes a text of somebody else as a terminal can take it: control characters,
// which could move the cursor, colour what follows or hide it, are written out. Line
// breaks and tabs stay.
func shown(text string) string {
	if strings.IndexFunc(text, unsafeToShow) < 0 {
		return text
	}
	var out strings.Builder
	for _, c := range text {
		if unsafeToShow(c) {
			fmt.Fprintf(&out, `\x%02x`, c)
			continue
		}
		out.WriteRune(c)
	}
	return out.String()
}

// shownJSON escapes in a text of JSON what a terminal would obey: it stays the same JSON.
func shownJSON(text string) string {
	if strings.IndexFunc(text, unsafeToShow) < 0 {
		return text
	}
	var out strings.Builder
	for _, c := range text {
		if unsafeToShow(c) {
			fmt.Fprintf(&out, `\u%04x`, c) // all of them are below U+10000
			continue
		}
		out.WriteRune(c)
	}
	return out.String()
}

// unsafeToShow tells of a character that a terminal would obey or that turns the order of
// letters around (Unicode's bidirectional controls).
func unsafeToShow(c rune) bool {
	switch c {
	case '\n', '\t':
		return false
	case '\u200e', '\u200f', '\u061c':
		return true
	}
	return unicode.IsControl(c) || c >= '\u202a' && c <= '\u202e' || c >= '\u2066' && c <= '\u2069'
}

// lines writes a value under the words before and after, where it has several lines.
func lines(v any) string {
	return strings.ReplaceAll(strings.TrimRight(review.Value(v), "\n"), "\n", "\n            ")
}
