package accounts

import (
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
)

// latelyLife is how long what a form's answers rest on is taken as it was read: a form
// asks at every keystroke, and an answer is no promise.
const latelyLife = 2 * time.Second

// Lately has what was read a moment ago, by what it is.
type Lately struct{ values *lru.Cache[string, latest] }

type latest struct {
	at    time.Time
	value any
}

func newLately() *Lately {
	values, _ := lru.New[string, latest](1000) // refuses only what is no size
	return &Lately{values}
}

// forget makes that a thing is read anew.
func (l *Lately) forget(key string) { l.values.Remove(key) }

// Recent reads something, or gives what was read of it a moment ago where the answer is
// for a form. What it gives is shared, and nobody changes it.
func Recent[T any](l *Lately, offline bool, key string, read func() (T, error)) (T, error) {
	if !offline {
		return read()
	}
	if x, there := l.values.Get(key); there && time.Since(x.at) < latelyLife {
		return x.value.(T), nil
	}
	v, err := read()
	if err == nil {
		l.values.Add(key, latest{time.Now(), v})
	}
	return v, err
}
