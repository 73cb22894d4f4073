package service_test

import (
	"bytes"
	"encoding/json"
	"io"
	"io/fs"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"undersail/examples"
	"undersail/internal/engine"
	"undersail/internal/proposing"
	"undersail/internal/service/servicetest"
)

// late leaves out how a machine is reached from so many answers after each time that it was
// made or changed: clouds tell it once the machine is up.
type late struct {
	mu   sync.Mutex
	left int
}

// RoundTrip asks the cloud.
func (l *late) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := http.DefaultTransport.RoundTrip(r)
	if err != nil || !strings.Contains(r.URL.Path, "/instances") {
		return res, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if r.Method != http.MethodGet {
		l.left = 3
	}
	raw, err := io.ReadAll(res.Body)
	res.Body.Close()
	if l.left > 0 && bytes.Contains(raw, []byte(`"reach"`)) {
		l.left--
		var all any
		if err := json.Unmarshal(raw, &all); err != nil {
			return nil, err
		}
		forget(all)
		raw, _ = json.Marshal(all)
		res.ContentLength = int64(len(raw))
		res.Header.Del("Content-Length")
	}
	res.Body = io.NopCloser(bytes.NewReader(raw))
	return res, err
}

func forget(v any) {
	switch v := v.(type) {
	case map[string]any:
		delete(v, "reach")
		for _, inner := range v {
			forget(inner)
		}
	case []any:
		for _, inner := range v {
			forget(inner)
		}
	}
}

// TestWhatIsToldLateIsRecordedAsItWasProved makes and alters a machine that tells only later
// how it is reached: what its checks asked in the end is what is recorded, so that proposing
// again finds nothing to change.
func TestWhatIsToldLateIsRecordedAsItWasProved(t *testing.T) {
	t.Parallel()
	r := servicetest.New(t, 240)
	s, _ := r.Start(engine.Config{ClaimLife: 10 * time.Second, Transport: &late{}}, nil)
	text, err := fs.ReadFile(examples.Files, "warning-site.sail.yaml")
	if err != nil {
		t.Fatal(err)
	}
	source := string(text)
	for _, size := range []string{"plain-1", "plain-2"} {
		inputs := map[string]any{"size": size}
		if run := r.Await(s, r.ApplySource(s, "site", source, inputs)); run.State != "done" {
			t.Fatalf("%s: %s %s", size, run.State, run.Reason)
		}
		if p := r.Propose(s, "site", source, inputs); p.State != proposing.Nothing {
			t.Errorf("%s: proposed again it is %s: %+v", size, p.Summary, p.Changes[len(p.Changes)-1].Fields)
		}
	}
}
