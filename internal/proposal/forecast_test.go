package proposal

import (
	"math"
	"strings"
	"testing"

	"undersail/internal/core/change"
	"undersail/internal/core/lang"
	"undersail/internal/core/offer"
	"undersail/internal/core/render"
)

func TestTheForecastFollowsTheLongestChain(t *testing.T) {
	t.Parallel()
	p := change.Plan{
		Changes: []change.Change{
			{Resource: "net", Type: "network", Change: change.Create},
			{
				Resource: "host",
				Type:     "instance",
				Change:   change.Create,
				After:    []render.After{{Name: "net", Gate: lang.GateHealthy}},
			},
			{Resource: "disk", Type: "disk", Change: change.Create},
		},
	}
	seconds, longest := Durations{
		Rate:    10,
		Learned: map[Learned]int64{{Type: "network"}: 500},
	}.Forecast(p.Ordered(nil, offer.Everywhere{}))
	// The network as it was learned, the machine by its type: 75 cloud seconds.
	if math.Abs(seconds-8) > 1e-9 || strings.Join(longest, " ") != "net host" {
		t.Errorf("%f by %v", seconds, longest)
	}
}
