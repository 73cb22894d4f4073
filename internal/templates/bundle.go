package templates

import (
	"crypto/sha256"
	"encoding/json"

	lru "github.com/hashicorp/golang-lru/v2"

	"undersail/internal/core/lang"
)

// bundles has templates that were read, by the digest of their text with all that it
// embeds. A template that was read never changes.
var bundles, _ = lru.New[string, *lang.Template](64)

// Read reads a template with all that it embeds, or gives what was read of it before.
// Diagnostics are given only when it has errors.
func Read(b lang.Bundle) (*lang.Template, lang.Diagnostics) {
	raw, err := json.Marshal(b)
	if err != nil || len(raw) > 1<<20 {
		return lang.ReadBundle(b) // large ones are read each time
	}
	sum := sha256.Sum256(raw)
	key := string(sum[:])
	if t, known := bundles.Get(key); known {
		return t, nil
	}
	t, found := lang.ReadBundle(b)
	if t != nil && !found.HasErrors() {
		bundles.Add(key, t)
	}
	return t, found
}
