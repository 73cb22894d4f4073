package templates

import (
	"crypto/sha256"
	"encoding/json"

	"github.com/jellydator/ttlcache/v3"

	"undersail/internal/core/lang"
)

// bundles has templates that were read, by the digest of their text with all that it
// embeds. A template that was read never changes.
var bundles = ttlcache.New(ttlcache.WithCapacity[string, *lang.Template](64))

// Read reads a template with all that it embeds, or gives what was read of it before.
// Diagnostics are given only when it has errors.
func Read(b lang.Bundle) (*lang.Template, lang.Diagnostics) {
	raw, err := json.Marshal(b)
	if err != nil || len(raw) > 1<<20 {
		return lang.ReadBundle(b) // large ones are read each time
	}
	sum := sha256.Sum256(raw)
	key := string(sum[:])
	if known := bundles.Get(key); known != nil {
		return known.Value(), nil
	}
	t, found := lang.ReadBundle(b)
	if t != nil && !found.HasErrors() {
		bundles.Set(key, t, ttlcache.NoTTL)
	}
	return t, found
}
