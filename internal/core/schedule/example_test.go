package schedule_test

import (
	"fmt"
	"time"

	"undersail/internal/core/schedule"
)

// quay is a network, a machine in it, and an address that waits for neither.
var quay = []schedule.Step{
	{Name: "net", Expect: 10 * time.Second},
	{Name: "machine", Expect: 50 * time.Second, Needs: []schedule.Need{{Step: 0}}},
	{Name: "front", Expect: 5 * time.Second},
}

func ExampleRun_Handle() {
	run := schedule.New(quay, nil, schedule.Limits{InFlight: 2}, nil)
	now := time.Date(2030, 5, 1, 8, 0, 0, 0, time.UTC)
	say := func(actions []schedule.Action) {
		for _, a := range actions {
			fmt.Println(now.Format(time.TimeOnly), a.Do, quay[a.Step].Name)
		}
	}
	say(run.Handle(schedule.Event{}, now))
	now = now.Add(8 * time.Second)
	say(run.Handle(schedule.Event{Step: 0, Outcome: schedule.Accepted}, now))
	say(run.Handle(schedule.Event{Step: 0, Outcome: schedule.Made}, now))
	say(run.Handle(schedule.Event{Step: 0, Outcome: schedule.Proved}, now))
	// Output:
	// 08:00:00 call net
	// 08:00:00 call front
	// 08:00:08 look net
	// 08:00:08 call machine
}

func ExampleRun_Forecast() {
	now := time.Date(2030, 5, 1, 8, 0, 0, 0, time.UTC)
	end, first := schedule.New(quay, nil, schedule.Limits{InFlight: 2}, nil).Forecast(now)
	fmt.Println(end.Sub(now), "by a chain that begins with", quay[first].Name)
	// Output: 1m0s by a chain that begins with net
}
