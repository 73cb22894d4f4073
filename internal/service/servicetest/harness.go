package servicetest

import (
	"fmt"
	"os"
)

// Harness stands in for a test in a program that measures or breaks things. What
// would fail a test panics.
type Harness struct{ cleanups []func() }

// Helper is there for the interface.
func (h *Harness) Helper() {}

// Fatal and Fatalf end the program's work with a panic.
func (h *Harness) Fatal(args ...any)         { panic(fmt.Sprint(args...)) }
func (h *Harness) Fatalf(f string, a ...any) { panic(fmt.Sprintf(f, a...)) }

// Cleanup lets f run at the End, last first.
func (h *Harness) Cleanup(f func()) { h.cleanups = append(h.cleanups, f) }

// TempDir makes a folder that goes with the End.
func (h *Harness) TempDir() string {
	dir, err := os.MkdirTemp("", "undersail-harness-")
	if err != nil {
		panic(err)
	}
	h.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// End cleans up.
func (h *Harness) End() {
	for i := len(h.cleanups) - 1; i >= 0; i-- {
		h.cleanups[i]()
	}
	h.cleanups = nil
}
