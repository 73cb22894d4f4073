// Package fault makes of a panic, ours or of a library, an error of whoever waits for what was
// being done. A goroutine that panics would end the whole program, with the runs of everybody.
package fault

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync/atomic"

	"golang.org/x/sync/errgroup"
)

// Error is a panic, with the stack of where it came from.
type Error struct {
	Value any
	Stack string
}

func (e *Error) Error() string { return fmt.Sprintf("a fault of Under Sail itself: %v", e.Value) }

var count atomic.Int64

// Count is how many panics were caught since the program began.
func Count() int64 { return count.Load() }

// Of makes an error of what recover gave. A panic that was handed on from another goroutine
// keeps the stack that it had there.
func Of(recovered any) *Error {
	if e, handedOn := recovered.(*Error); handedOn {
		return e
	}
	count.Add(1)
	return &Error{recovered, string(debug.Stack())}
}

// Caught does something, and gives a panic of it as an error.
func Caught(do func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = Of(p)
		}
	}()
	return do()
}

// Log writes an error down at a level; a panic is always an error, and has its stack.
func Log(log *slog.Logger, level slog.Level, message string, err error, more ...any) {
	more = append(more, "error", err)
	var e *Error
	if errors.As(err, &e) {
		level, more = slog.LevelError, append(more, "stack", e.Stack)
	}
	log.Log(context.Background(), level, message, more...)
}

// Go does something beside whoever asks for it. Nobody waits for it: a panic is written down.
func Go(log *slog.Logger, what string, do func()) {
	go func() {
		if err := Caught(func() error { do(); return nil }); err != nil {
			Log(log, slog.LevelError, what+" ended by a fault of our own", err)
		}
	}()
}

// Group is an [errgroup.Group] in which a panic is an error like any other.
type Group struct{ all *errgroup.Group }

// WithContext makes a group, and a context that ends with the first error in it.
func WithContext(ctx context.Context) (*Group, context.Context) {
	all, ctx := errgroup.WithContext(ctx)
	return &Group{all}, ctx
}

// SetLimit lets at most so many be done at a time.
func (g *Group) SetLimit(most int) { g.all.SetLimit(most) }

// Go does something beside the others of the group.
func (g *Group) Go(do func() error) { g.all.Go(func() error { return Caught(do) }) }

// Wait gives the first error once everything has ended.
func (g *Group) Wait() error { return g.all.Wait() }
