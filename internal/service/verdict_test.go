package service_test

import (
	"sync"
	"testing"

	"undersail/internal/service/verdicttest"
)

// TestTheVerdict holds what is said of proposals beforehand against what the cloud
// makes of them. None that is accepted fails for something that could be known.
func TestTheVerdict(t *testing.T) {
	t.Parallel()
	const each = 10
	seeds := []uint64{0, 1, 2} // make chaos judges more
	var mu sync.Mutex
	judged := 0
	verdicttest.Run(seeds, each, 5, func(seed uint64, o verdicttest.Outcome, err error) {
		mu.Lock()
		defer mu.Unlock()
		if err != nil {
			t.Errorf("market %d: %v", seed, err)
			return
		}
		if o.Judged {
			judged++
		}
		if failed, refused := o.Wrong(); failed || refused {
			t.Errorf("market %d: %v", seed, o)
		}
	})
	if judged < each*len(seeds)/2 {
		t.Errorf("the cloud judged only %d of %d", judged, each*len(seeds))
	}
}
