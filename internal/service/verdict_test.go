package service_test

import (
	"fmt"
	"testing"

	"undersail/internal/service/verdicttest"
)

// TestTheVerdict holds what is said of proposals beforehand against what the cloud
// makes of them. None that is accepted fails for something that could be known.
func TestTheVerdict(t *testing.T) {
	t.Parallel()
	const markets, each = 10, 10
	for seed := range uint64(markets) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			trials := verdicttest.New(t, seed)
			judged := 0
			for range each {
				o, err := trials.Next()
				if err != nil {
					t.Fatal(err)
				}
				if o.Judged {
					judged++
				}
				failed, refused := o.Wrong()
				if failed || refused {
					t.Errorf("%v", o)
				} else {
					t.Log(o)
				}
			}
			if judged < each/4 {
				t.Errorf("the cloud judged only %d of %d", judged, each)
			}
		})
	}
}
