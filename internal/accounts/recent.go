package accounts

import (
	"sync"
	"time"
)

// latelyLife is how long what a form's answers rest on is taken as it was read: a form
// asks at every keystroke, and an answer is no promise.
const latelyLife = 2 * time.Second

// Lately keeps what was read a moment ago, by what it is.
type Lately struct {
	mu   sync.Mutex
	kept map[string]latest
}

type latest struct {
	at    time.Time
	value any
}

// forget makes that a thing is read anew.
func (l *Lately) forget(key string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.kept, key)
}

// Recent reads something, or gives what was read of it a moment ago where the answer is
// for a form. What it gives is shared, and nobody changes it.
func Recent[T any](l *Lately, offline bool, key string, read func() (T, error)) (T, error) {
	if !offline {
		return read()
	}
	l.mu.Lock()
	x, there := l.kept[key]
	l.mu.Unlock()
	if there && time.Since(x.at) < latelyLife {
		return x.value.(T), nil
	}
	v, err := read()
	if err != nil {
		return v, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.kept == nil || len(l.kept) > 1000 {
		l.kept = map[string]latest{}
	}
	l.kept[key] = latest{time.Now(), v}
	return v, nil
}
