package accounts

import (
	"time"

	"github.com/jellydator/ttlcache/v3"
)

// latelyLife is how long what a form's answers rest on is taken as it was read: a form
// asks at every keystroke, and an answer is no promise.
const latelyLife = 2 * time.Second

// Lately has what was read a moment ago, by what it is.
type Lately struct{ values *ttlcache.Cache[string, any] }

func newLately() *Lately {
	return &Lately{ttlcache.New(ttlcache.WithTTL[string, any](latelyLife), ttlcache.WithCapacity[string, any](1000),
		ttlcache.WithDisableTouchOnHit[string, any]())}
}

// forget makes that a thing is read anew.
func (l *Lately) forget(key string) { l.values.Delete(key) }

// Recent reads something, or gives what was read of it a moment ago where the answer is
// for a form. What it gives is shared, and nobody changes it.
func Recent[T any](l *Lately, offline bool, key string, read func() (T, error)) (T, error) {
	if !offline {
		return read()
	}
	if known := l.values.Get(key); known != nil {
		return known.Value().(T), nil
	}
	v, err := read()
	if err == nil {
		l.values.Set(key, v, ttlcache.DefaultTTL)
	}
	return v, err
}
