package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"html"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Scrubber takes secrets out of texts: as they are and in every form that a layer
// between us and a machine makes of them (JSON, Go, HTML, URLs, base64 at any place of
// a longer text, hex), two layers deep, with blanks and line breaks anywhere. It is
// safe for concurrent use; nil takes nothing out.
//
// Take secrets out before a text is shortened: half a secret is no form of it.
type Scrubber struct {
	forms []form // longest first
}

// form is a text to look for, without blanks, and what is written instead.
type form struct {
	text, instead string
	anyCase       bool // hex
}

// shortest is the length of secrets that are looked for. Shorter ones would take half
// of every text with them.
const shortest = 4

// NewScrubber prepares for secrets by their references.
func NewScrubber(values map[string]string) *Scrubber {
	s := &Scrubber{}
	known := map[string]bool{}
	add := func(text, instead string, anyCase bool) {
		if text = squeezed(text); anyCase {
			text = strings.ToLower(text)
		}
		if len(text) >= shortest && !known[text] {
			known[text] = true
			s.forms = append(s.forms, form{text, instead, anyCase})
		}
	}
	for reference, value := range values {
		instead := "secret:" + reference
		for _, part := range partsOf(value) {
			texts := []string{part}
			for range 2 {
				for _, text := range texts {
					texts = append(texts, quotings(text)...)
				}
				slices.Sort(texts)
				texts = slices.Compact(texts)
			}
			for _, text := range texts {
				add(text, instead, false)
				add(hex.EncodeToString([]byte(text)), instead, true)
				for _, inner := range base64Forms(text) {
					add(inner, instead, false)
				}
			}
		}
	}
	slices.SortFunc(s.forms, func(a, b form) int {
		if len(a.text) != len(b.text) {
			return len(b.text) - len(a.text)
		}
		return strings.Compare(a.text, b.text)
	})
	return s
}

// partsOf are the secret as a whole and, of one with several lines, each line that
// tells something: a machine may answer with one of them.
func partsOf(value string) []string {
	parts := []string{value}
	if lines := strings.Split(strings.TrimSpace(value), "\n"); len(lines) > 1 {
		for _, line := range lines {
			if line = strings.TrimSpace(line); len(line) >= 8 && !strings.HasPrefix(line, "-----") {
				parts = append(parts, line)
			}
		}
	}
	return parts
}

// quotings are the forms that writing a text into another format gives it.
func quotings(text string) []string {
	var out []string
	for _, escapeHTML := range []bool{true, false} {
		var quoted strings.Builder
		e := json.NewEncoder(&quoted)
		e.SetEscapeHTML(escapeHTML)
		if e.Encode(text) == nil {
			out = append(out, unquoted(strings.TrimSpace(quoted.String())))
		}
	}
	query, path := url.QueryEscape(text), url.PathEscape(text)
	spaced := strings.ReplaceAll(query, "+", "%20")
	return append(out, unquoted(strconv.Quote(text)), unquoted(strconv.QuoteToASCII(text)), html.EscapeString(text),
		strings.ReplaceAll(text, "'", `'\''`), strings.ReplaceAll(text, "'", "''"),
		query, path, spaced, lowerEscapes(query), lowerEscapes(path), lowerEscapes(spaced),
		url.UserPassword("", text).String()[1:])
}

func unquoted(s string) string { return s[1 : len(s)-1] }

// lowerEscapes writes %2F as %2f.
func lowerEscapes(s string) string {
	b := []byte(s)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:i+3], strings.ToLower(string(b[i+1:i+3])))
		}
	}
	return string(b)
}

// base64Forms are the characters that a text gives, whatever stands before and after
// it in what was encoded.
func base64Forms(text string) []string {
	var out []string
	for _, encoding := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for before, skip := range []int{0, 2, 3} {
			encoded := encoding.EncodeToString(append(make([]byte, before), text...))
			if whole := (before + len(text)) * 8 / 6; whole > skip {
				out = append(out, encoded[skip:whole])
			}
		}
	}
	return out
}

// squeezed is a text without its blanks and line breaks, written out or escaped.
func squeezed(text string) string {
	out, _ := squeeze(text, false)
	return out
}

// squeeze also tells where each byte of the result stood.
func squeeze(text string, positions bool) (string, []int) {
	var out strings.Builder
	var at []int
	out.Grow(len(text))
	for i := 0; i < len(text); {
		if strings.HasPrefix(text[i:], `\n`) || strings.HasPrefix(text[i:], `\r`) || strings.HasPrefix(text[i:], `\t`) {
			i += 2
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		if !unicode.IsSpace(r) {
			out.WriteString(text[i : i+size])
			if positions {
				for k := range size {
					at = append(at, i+k)
				}
			}
		}
		i += size
	}
	return out.String(), at
}

// Text takes the secrets out of a whole text.
func (s *Scrubber) Text(text string) string { return s.scrub(text, false) }

// Begin takes the secrets out of the beginning of a longer text, and what at its end
// may be the beginning of one.
func (s *Scrubber) Begin(text string) string { return s.scrub(text, true) }

func (s *Scrubber) scrub(text string, cut bool) string {
	if s == nil || len(s.forms) == 0 || text == "" {
		return text
	}
	inner, at := squeeze(text, true)
	lower := strings.ToLower(inner)
	if len(lower) != len(inner) { // the length of a letter can change with its case
		lower = inner
	}
	type span struct {
		from, to int // in text
		instead  string
	}
	var spans []span
	taken := make([]bool, len(inner))
	mark := func(from, to int, instead string) {
		if slices.Contains(taken[from:to], true) {
			for i := from; i < to; i++ {
				if !taken[i] { // what another form left of it goes too
					taken[i] = true
					spans = append(spans, span{at[i], at[i] + 1, ""})
				}
			}
			return
		}
		for i := from; i < to; i++ {
			taken[i] = true
		}
		spans = append(spans, span{at[from], at[to-1] + 1, instead})
	}
	for _, f := range s.forms {
		where := inner
		if f.anyCase {
			where = lower
		}
		for from := 0; ; {
			i := strings.Index(where[from:], f.text)
			if i < 0 {
				break
			}
			mark(from+i, from+i+len(f.text), f.instead)
			from += i + len(f.text)
		}
	}
	end := len(text)
	if cut {
		end = s.cutAt(inner, lower, at, end)
	}
	slices.SortFunc(spans, func(a, b span) int { return a.from - b.from })
	var out strings.Builder
	done := 0
	for _, x := range spans {
		if x.from >= end {
			break
		}
		if x.from > done {
			out.WriteString(text[done:x.from])
		}
		out.WriteString(x.instead)
		done = max(done, x.to)
	}
	if done < end {
		out.WriteString(text[done:end])
	}
	return out.String()
}

// cutAt is where a text must end so that no secret begins before its end and would go
// on after it.
func (s *Scrubber) cutAt(inner, lower string, at []int, end int) int {
	for _, f := range s.forms {
		where := inner
		if f.anyCase {
			where = lower
		}
		for n := min(len(f.text)-1, len(where)); n > 0; n-- {
			if strings.HasSuffix(where, f.text[:n]) {
				end = min(end, at[len(at)-n])
				break
			}
		}
	}
	return end
}
