package gentle

import (
	"time"

	"golang.org/x/sys/unix"
)

// Clock is how much of a processor's time the thread has had that asks: what a function that
// [Do] runs takes by itself, whatever else the machine does.
func Clock() time.Duration {
	var t unix.Timespec
	if unix.ClockGettime(unix.CLOCK_THREAD_CPUTIME_ID, &t) != nil {
		return 0
	}
	return time.Duration(t.Nano())
}
