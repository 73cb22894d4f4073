package service

import (
	"context"
	"errors"
	"sync"
	"testing"
	"time"

	"undersail/internal/turnstile"
)

func askedBy(who string, left time.Duration) context.Context {
	return context.WithValue(context.Background(), computingKey{}, &budget{who: who, left: left})
}

func TestAComputationEndsWithItsBudgetAndItsCaller(t *testing.T) {
	t.Parallel()
	s := &Service{computing: turnstile.New(1)}
	until := func(stop func() bool) {
		for !stop() {
			time.Sleep(time.Millisecond)
		}
	}
	var said *Error
	if err := s.compute(askedBy("oda", 20*time.Millisecond), until); !errors.As(err, &said) || said.Kind != TooMuch {
		t.Errorf("over its budget: %v", err)
	}
	// What a request computes in parts counts together.
	ctx := askedBy("oda", 40*time.Millisecond)
	spend := func(func() bool) { time.Sleep(25 * time.Millisecond) }
	first, second := s.compute(ctx, spend), s.compute(ctx, spend)
	if first != nil || !errors.As(second, &said) || said.Kind != TooMuch {
		t.Errorf("in parts: %v, then %v", first, second)
	}
	gone, hangUp := context.WithCancel(askedBy("oda", time.Hour))
	began := make(chan struct{})
	var once sync.Once
	ended := make(chan error)
	go func() {
		ended <- s.compute(gone, func(stop func() bool) {
			once.Do(func() { close(began) })
			until(stop)
		})
	}()
	<-began
	hangUp()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("after its caller hung up: %v", err)
	}
}
