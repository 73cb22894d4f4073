package sealed

import "encoding/json"

// Canonical writes JSON as the same value is always written: the database keeps the
// value, not the text.
func Canonical(raw json.RawMessage) string {
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return string(raw)
	}
	out, err := json.Marshal(v)
	if err != nil {
		return string(raw)
	}
	return string(out)
}
