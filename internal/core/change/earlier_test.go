package change

import (
	"encoding/json"
	"reflect"
	"testing"
)

// TestWhatAnEarlierVersionWroteIsRead: plans lie in proposals and runs across an upgrade.
func TestWhatAnEarlierVersionWroteIsRead(t *testing.T) {
	for _, text := range []string{`{"resource":"a","kept":["zone"]}`, `{"resource":"a","unchanged":["zone"]}`} {
		var c Change
		if err := json.Unmarshal([]byte(text), &c); err != nil || !reflect.DeepEqual(c.Unchanged, []string{"zone"}) ||
			c.Resource != "a" {
			t.Errorf("%s: %+v %v", text, c, err)
		}
	}
}
