package templates

import (
	"crypto/sha256"
	"encoding/json"

	"undersail/internal/core/lang"
	"undersail/internal/core/memo"
)

// bundles keeps templates that were read, by the digest of their text with all that it
// embeds. A template that was read never changes.
var bundles = bundleMemo{memo.Of[*lang.Template]{Most: 64}}

type bundleMemo struct{ memo.Of[*lang.Template] }

// read reads a bundle, or finds it. Diagnostics are given only when it has errors.
func (m *bundleMemo) read(b lang.Bundle) (*lang.Template, lang.Diagnostics) {
	raw, err := json.Marshal(b)
	if err != nil || len(raw) > 1<<20 {
		return lang.ReadBundle(b) // large ones are not kept
	}
	sum := sha256.Sum256(raw)
	key := string(sum[:])
	if t, known := m.Get(key); known {
		return t, nil
	}
	t, found := lang.ReadBundle(b)
	if t != nil && !found.HasErrors() {
		m.Put(key, t)
	}
	return t, found
}

// Read reads a template with all that it embeds, or gives what was read of it before.
func Read(b lang.Bundle) (*lang.Template, lang.Diagnostics) { return bundles.read(b) }
