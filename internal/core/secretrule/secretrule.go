// Package secretrule states and enforces rules for secrets and generates
// secrets that keep them. Entropy is passed in.
package secretrule

import (
	"fmt"
	"io"
	"math/big"
	"slices"
	"strings"
	"unicode"
)

// Rules says what a secret must be like.
type Rules struct {
	// Length is the least number of characters; 12 when zero.
	Length int `json:"length,omitempty"`
	// Classes is how many of lower case, upper case, digits and other
	// characters must occur; 3 when zero, 4 at most.
	Classes int `json:"classes,omitempty"`
	// Kinds are kinds of characters that must occur: small, capital, digit, sign.
	Kinds []string `json:"kinds,omitempty"`
	// Forbid lists texts that must not occur, upper and lower case alike.
	Forbid []string `json:"forbid,omitempty"`
}

func (r Rules) length() int {
	if r.Length == 0 {
		return 12
	}
	return r.Length
}

func (r Rules) classes() int {
	if r.Classes == 0 {
		return 3
	}
	return r.Classes
}

// Words states the rules for people.
func (r Rules) Words() string {
	s := fmt.Sprintf("at least %d characters with %d of: small letters, capitals, digits, other characters", r.length(),
		r.classes())
	if len(r.Kinds) > 0 {
		s += "; there must be a " + strings.Join(r.Kinds, ", a ")
	}
	if len(r.Forbid) > 0 {
		s += "; without " + strings.Join(r.Forbid, ", ")
	}
	return s
}

// Check lists the rules that a secret breaks, given the names that it must not derive
// from, such as that of its stack. It never repeats the secret.
func (r Rules) Check(secret string, names ...string) []string {
	var broken []string
	if n := len([]rune(secret)); n < r.length() {
		broken = append(broken, fmt.Sprintf("it has %d characters and needs %d", n, r.length()))
	}
	if n := classesOf(secret); n < r.classes() {
		broken = append(broken, fmt.Sprintf("it mixes %d kinds of characters and needs %d", n, r.classes()))
	}
	for _, kind := range r.Kinds {
		if !kinds[kind](secret) {
			broken = append(broken, "it has no "+kind)
		}
	}
	if isCommon(secret) {
		broken = append(broken, "it is a common password, or close to one")
	}
	if name := derivesFrom(secret, names); name != "" {
		broken = append(broken, fmt.Sprintf("it derives from the name %q", name))
	}
	for _, f := range r.Forbid {
		if strings.Contains(strings.ToLower(secret), strings.ToLower(f)) {
			broken = append(broken, fmt.Sprintf("it contains the forbidden text %q", f))
		}
	}
	return broken
}

// kinds tell whether a text has a character of a kind.
var kinds = map[string]func(string) bool{
	"small":   func(s string) bool { return strings.IndexFunc(s, unicode.IsLower) >= 0 },
	"capital": func(s string) bool { return strings.IndexFunc(s, unicode.IsUpper) >= 0 },
	"digit":   func(s string) bool { return strings.IndexFunc(s, unicode.IsDigit) >= 0 },
	"sign": func(s string) bool {
		return strings.IndexFunc(s,
			func(c rune) bool { return !unicode.IsLower(c) && !unicode.IsUpper(c) && !unicode.IsDigit(c) }) >= 0
	},
}

// Kinds are the kinds of characters that rules may ask for.
func Kinds() []string { return []string{"small", "capital", "digit", "sign"} }

func classesOf(secret string) (n int) {
	for _, has := range kinds {
		if has(secret) {
			n++
		}
	}
	return n
}

// alphabets avoid characters that are easily confused or need quoting.
var alphabets = []string{"abcdefghjkmnpqrstuvwxyz", "ABCDEFGHJKLMNPQRSTUVWXYZ", "23456789", "-_.+="}

// Generate draws a secret that keeps the rules: at least 20 characters, evenly
// from all four kinds. It fails when the entropy ends or the forbidden texts
// leave nothing to draw.
func (r Rules) Generate(entropy io.Reader) (string, error) {
	all := strings.Join(alphabets, "")
	for range 100 {
		length := max(r.length(), 20)
		out := make([]byte, 0, length)
		for i := range length {
			alphabet := all
			if i < len(alphabets) {
				alphabet = alphabets[i]
			}
			n, err := below(entropy, len(alphabet))
			if err != nil {
				return "", fmt.Errorf("generate secret: %w", err)
			}
			out = append(out, alphabet[n])
		}
		if err := shuffle(entropy, out); err != nil {
			return "", fmt.Errorf("generate secret: %w", err)
		}
		if len(r.Check(string(out))) == 0 {
			return string(out), nil
		}
	}
	return "", fmt.Errorf("generate secret: nothing keeps the rules: %s", r.Words())
}

func shuffle(entropy io.Reader, b []byte) error {
	for i := range slices.Backward(b) {
		j, err := below(entropy, i+1)
		if err != nil {
			return err
		}
		b[i], b[j] = b[j], b[i]
	}
	return nil
}

// below draws an unbiased number in [0, n) from eight bytes at a time.
func below(entropy io.Reader, n int) (int, error) {
	var raw [8]byte
	limit := new(big.Int).Lsh(big.NewInt(1), 64)
	most := new(big.Int).Sub(limit, new(big.Int).Mod(limit, big.NewInt(int64(n))))
	for {
		if _, err := io.ReadFull(entropy, raw[:]); err != nil {
			return 0, err
		}
		if v := new(big.Int).SetBytes(raw[:]); v.Cmp(most) < 0 {
			return int(v.Mod(v, big.NewInt(int64(n))).Int64()), nil
		}
	}
}
