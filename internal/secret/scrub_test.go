package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"strings"
	"testing"
)

// awkward are secrets as people and generators make them.
var awkward = map[string]string{
	"plain":  "low-water-17",
	"blank":  "pä ss/word",
	"quotes": `a"b'c\d<e>&f`,
	"lines":  "first line of it\nsecond line of it\n",
	"tab":    "tab\there",
	"long":   strings.Repeat("k9/", 14),
}

// layers are what stands between us and a machine.
var layers = map[string]func(string) string{
	"plain": func(s string) string { return s },
	"JSON":  func(s string) string { b, _ := json.Marshal(s); return string(b) },
	"JSON in JSON": func(s string) string {
		b, _ := json.Marshal(s)
		b, _ = json.Marshal(string(b))
		return string(b)
	},
	"Go":             func(s string) string { return fmt.Sprintf("%q", s) },
	"Go, ASCII":      func(s string) string { return fmt.Sprintf("%+q", s) },
	"HTML":           html.EscapeString,
	"query":          url.QueryEscape,
	"path":           url.PathEscape,
	"URL in Go":      func(s string) string { return fmt.Sprintf("%q", "https://x.example/?a="+url.QueryEscape(s)) },
	"small escapes":  func(s string) string { return lowerEscapes(url.QueryEscape(s)) },
	"user info":      func(s string) string { return url.UserPassword("ines", s).String() },
	"base64":         func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) },
	"base64 for URL": func(s string) string { return base64.URLEncoding.EncodeToString([]byte(s)) },
	"basic sign-in":  func(s string) string { return "Basic " + base64.StdEncoding.EncodeToString([]byte("ines:"+s)) },
	"base64 at 2":    func(s string) string { return base64.StdEncoding.EncodeToString([]byte("xy" + s + "tail")) },
	"base64 of JSON": func(s string) string {
		b, _ := json.Marshal(map[string]string{"password": s})
		return base64.StdEncoding.EncodeToString(b)
	},
	"hex":       func(s string) string { return hex.EncodeToString([]byte(s)) },
	"big hex":   func(s string) string { return fmt.Sprintf("%X", s) },
	"hex bytes": func(s string) string { return fmt.Sprintf("% x", s) },
	"folded": func(s string) string {
		b := base64.StdEncoding.EncodeToString([]byte("ines:" + s))
		var out strings.Builder
		for i := 0; i < len(b); i += 7 {
			out.WriteString(b[i:min(i+7, len(b))] + "\r\n")
		}
		return out.String()
	},
	"squeezed": func(s string) string { return strings.Join(strings.Fields(s), " ") },
	"broken":   func(s string) string { return s[:len(s)/2] + "\n  " + s[len(s)/2:] },
}

func TestSecretsAreTakenOutInEveryForm(t *testing.T) {
	t.Parallel()
	for kind, value := range awkward {
		s := NewScrubber(map[string]string{"intake/password@1": value})
		for layer, write := range layers {
			text := "before " + write(value) + " after"
			got := s.Text(text)
			if !strings.HasPrefix(got, "before ") || !strings.HasSuffix(got, " after") {
				t.Errorf("%s in %s: more than the secret went: %q", kind, layer, got)
			}
			if !strings.Contains(got, "secret:intake/password@1") || leaks(got, value) {
				t.Errorf("%s in %s: %q of %q", kind, layer, got, text)
			}
		}
	}
}

// leaks tells whether four or more bytes of a secret in a row, blanks apart, can be
// read in a text, as they are or in hex.
func leaks(text, value string) bool {
	text = strings.ReplaceAll(text, "secret:intake/password@1", "|")
	value, text = squeezed(value), squeezed(text)
	for i := 0; i+4 <= len(value); i++ {
		part := value[i : i+4]
		if strings.Contains(text, part) || strings.Contains(strings.ToLower(text), hex.EncodeToString([]byte(part))) {
			return true
		}
	}
	return false
}

func TestACutLeavesNoHalfSecret(t *testing.T) {
	t.Parallel()
	for kind, value := range awkward {
		s := NewScrubber(map[string]string{"intake/password@1": value})
		for layer, write := range layers {
			text := "before: " + write(value)
			for cut := len("before: "); cut <= len(text); cut++ {
				if got := s.Begin(text[:cut]); leaks(got, value) {
					t.Fatalf("%s in %s, cut after %d bytes: %q", kind, layer, cut, got)
				}
			}
		}
	}
}

func TestNothingElseIsTakenOut(t *testing.T) {
	t.Parallel()
	s := NewScrubber(map[string]string{"a/short@1": "abc", "a/word@1": "springtide"})
	text := "abc spring tid e and spring, in\nlines\tand with   blanks; c3ByaW5n 737072696e67"
	got, want := s.Text(text), "abc secret:a/word@1 and spring, in\nlines\tand with   blanks; c3ByaW5n 737072696e67"
	if got != want {
		t.Errorf("%q", got)
	}
	var none *Scrubber
	if none.Text("springtide") != "springtide" {
		t.Error("without secrets a text is changed")
	}
	two := NewScrubber(map[string]string{"a/x@1": "high water", "a/y@1": "water mark"})
	got = two.Text("a high water mark b")
	if strings.Contains(got, "water") || strings.Contains(got, "mark") || strings.Contains(got, "high") {
		t.Errorf("of secrets that overlap is left: %q", got)
	}
}

// TestASecretWithLineBreaksWrittenOutIsFound: as JSON and as tools of other systems write them.
func TestASecretWithLineBreaksWrittenOutIsFound(t *testing.T) {
	t.Parallel()
	s := NewScrubber(map[string]string{"word": "low-tide-at-dawn"})
	for _, between := range []string{"\n", "\r\n", "\t", `\n`, `\r\n`, `\r`, `\t`} {
		if got := s.Text("x low-tide" + between + "-at-dawn y"); strings.Contains(got, "dawn") {
			t.Errorf("with %q in it: %s", between, got)
		}
	}
}
