package lang

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"undersail/internal/core/expr"
)

// Bundle is a template with all that it embeds: the texts of other templates
// and of files beside it. It is all that reading needs, so a version that is
// published as a bundle never changes its meaning.
type Bundle struct {
	// Ref is how the one that embeds it names it: ./edge.sail.yaml,
	// gauge-edge@^2 or, for file("motd.txt"), motd.txt. Empty at the top.
	Ref string `json:"ref,omitempty"`
	// File names the text in messages.
	File   string   `json:"file"`
	Source string   `json:"source"`
	Parts  []Bundle `json:"parts,omitempty"`
}

// Limits of a bundle.
const (
	maxEmbedding = 8
	MaxBundle    = 4 << 20
)

// Part finds what a reference stands for.
func (b Bundle) Part(ref string) (Bundle, bool) {
	i := slices.IndexFunc(b.Parts, func(p Bundle) bool { return p.Ref == ref })
	if i < 0 {
		return Bundle{}, false
	}
	return b.Parts[i], true
}

// Size counts the bytes of all texts.
func (b Bundle) Size() int {
	n := len(b.Source)
	for _, p := range b.Parts {
		n += p.Size()
	}
	return n
}

// Digest is the SHA-256 of all texts, hexadecimal. File names in messages do
// not count. Without parts it is the digest of the source.
func (b Bundle) Digest() string {
	h := sha256.New()
	h.Write([]byte(b.Source))
	for _, p := range b.Parts {
		fmt.Fprintf(h, "\x00%s\x00%s", p.Ref, p.Digest())
	}
	return hex.EncodeToString(h.Sum(nil))
}

func (b Bundle) files() map[string]string {
	out := map[string]string{}
	for _, p := range b.Parts {
		if !IsTemplateRef(p.Ref) {
			out[p.Ref] = p.Source
		}
	}
	return out
}

// IsTemplateRef tells references to templates from names of files.
func IsTemplateRef(ref string) bool { return IsLocalRef(ref) || strings.Contains(ref, "@") }

// IsLocalRef tells a template beside another from one of the library.
func IsLocalRef(ref string) bool { return strings.HasPrefix(ref, "./") }

// References lists what a text embeds, each once, in order: templates under
// `from` and `of`, and files read with file(...). A text that does not parse
// has none; reading it tells why.
func References(source []byte) []string {
	r := newReport("", source)
	tree := readTree(r, source)
	if tree == nil {
		return nil
	}
	var out []string
	add := func(refs ...string) {
		for _, ref := range refs {
			if ref != "" && !slices.Contains(out, ref) {
				out = append(out, ref)
			}
		}
	}
	if resources := tree.Get("resources"); resources != nil {
		for _, e := range resources.Entries {
			if from := e.Value.Get("from"); from != nil && from.Kind == Scalar {
				add(from.Text)
			}
		}
	}
	if inputs := tree.Get("inputs"); inputs != nil {
		for _, e := range inputs.Entries {
			if of := e.Value.Get("of"); of != nil && of.Kind == Scalar {
				add(of.Text)
			}
		}
	}
	var files func(n *Node)
	files = func(n *Node) {
		if n.Kind == Expression {
			add(expr.FilesOf(n.Text)...)
		}
		for _, item := range n.Items {
			files(item)
		}
		for _, e := range n.Entries {
			files(e.Value)
		}
	}
	files(tree)
	return out
}

// CheckRef says what is wrong with a reference, or nothing. What lies beside a
// template lies in its folder or below it.
func CheckRef(ref string) string {
	switch {
	case IsLocalRef(ref):
		if !inside(ref[2:]) || !strings.HasSuffix(ref, ".yaml") {
			return "a template beside this one is written like ./parts/edge.sail.yaml, in this folder or below it"
		}
	case strings.Contains(ref, "@"):
		name, version, _ := strings.Cut(ref, "@")
		if !slugPattern.MatchString(name) || version == "" {
			return "a template of the library is written like gauge-edge@^2"
		}
	case !inside(ref):
		return "a file lies in the folder of the template or below it"
	}
	return ""
}

func inside(name string) bool {
	return name != "" && !strings.HasPrefix(name, "/") && path.Clean(name) == name && name != "." &&
		!strings.HasPrefix(name, "..")
}
