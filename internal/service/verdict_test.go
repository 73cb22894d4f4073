package service_test

import (
	"context"
	"slices"
	"sync"
	"testing"

	"undersail/internal/core/resource"
	"undersail/internal/service/servicetest"
	"undersail/internal/service/verdicttest"
)

// TestEveryPropertyIsAmongTheVerdicts holds what the templates of chance draw against what the
// simulated cloud makes: no type and no property of one is left out.
func TestEveryPropertyIsAmongTheVerdicts(t *testing.T) {
	b := servicetest.NewBench(t, nil)
	o, err := b.Service.Accounts.Offers(context.Background(), "saltmere-lab", "north-fell", false)
	if err != nil {
		t.Fatal(err)
	}
	properties := 0
	for _, name := range o.Types {
		of, _ := resource.ByName(name)
		for _, p := range of.Properties {
			if p.Name == "name" || p.Name == "tags" || slices.Contains(o.Without[name], p.Name) {
				continue
			}
			if properties++; !verdicttest.Draws(name, p.Name) {
				t.Errorf("%s of a %s is not among the templates of chance", p.Name, name)
			}
		}
	}
	if len(o.Types) < 17 || properties < 70 {
		t.Errorf("only %d types with %d properties", len(o.Types), properties)
	}
}

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
