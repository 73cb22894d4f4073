// Package gentle does what takes a processor for long in a way that gives way to everything
// that is short: on threads with a lower priority, beside more threads than there are
// processors, so that the operating system decides who runs. Without it a read waits behind
// hashes and renderings for whole time slices; `make flood` prints what it comes to.
package gentle

import (
	"os"
	"runtime"
	"runtime/debug"
	"sync"
	"syscall"
	"undersail/internal/fault"
)

// Processors is how many processors this program may use.
var Processors = runtime.GOMAXPROCS(0)

// softMemory is from how much on the collector of garbage works harder before more is taken
// from the operating system. It bounds what lies about, and not what is needed.
const softMemory = 320 << 20

// niceness is how far such a thread stands back (setpriority(2)); 19 is the most.
const niceness = 12

var (
	once sync.Once
	jobs chan func() // nil until there are threads for them
)

// MakeRoom makes the threads, and lets what is short run beside them. A program calls it
// when it begins, before it starts others: a thread's priority cannot be given back, so
// these are used for nothing else, and live as long as the program. It keeps memory that nobody
// needs any more small, too. GOMAXPROCS and GOMEMLIMIT, where they are set, hold.
func MakeRoom() {
	once.Do(func() {
		threads := max(3, Processors)
		if os.Getenv("GOMEMLIMIT") == "" {
			debug.SetMemoryLimit(softMemory)
		}
		if os.Getenv("GOMAXPROCS") == "" {
			runtime.GOMAXPROCS(Processors + threads)
		}
		jobs = make(chan func())
		for range threads {
			go func() {
				runtime.LockOSThread()
				syscall.Setpriority(syscall.PRIO_PROCESS, 0, niceness)
				for job := range jobs {
					job()
				}
			}()
		}
	})
}

// Do runs f, and returns when it has ended. A panic of f is one of the caller. In a program
// that made no room it runs like anything else.
func Do(f func()) {
	if jobs == nil {
		f()
		return
	}
	var err error
	done := make(chan struct{})
	jobs <- func() {
		defer close(done)
		err = fault.Caught(func() error { f(); return nil })
	}
	if <-done; err != nil {
		panic(err) // with the stack of where it broke
	}
}
