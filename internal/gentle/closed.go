package gentle

import (
	"fmt"
	"syscall"

	"golang.org/x/sys/unix"
)

// KeepMemory keeps what a program has in its memory there: no file is written of it when it
// dies, and no other program of the same user reads it (prctl(2), setrlimit(2)).
func KeepMemory() error {
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("keep other programs out of the memory: %w", err)
	}
	if err := syscall.Setrlimit(syscall.RLIMIT_CORE, &syscall.Rlimit{}); err != nil {
		return fmt.Errorf("turn core dumps off: %w", err)
	}
	return nil
}
