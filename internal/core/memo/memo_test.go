package memo

import (
	"fmt"
	"testing"
)

func TestWhatIsUsedStaysAndWhatIsNotGoes(t *testing.T) {
	t.Parallel()
	m := Of[int]{Most: 10}
	m.Put("used", 1)
	m.Put("unused", 2)
	for i := range 40 {
		m.Put(fmt.Sprint(i), i)
		if v, ok := m.Get("used"); !ok || v != 1 {
			t.Fatalf("after %d others what is used is gone", i)
		}
	}
	if _, ok := m.Get("unused"); ok {
		t.Error("what nobody asks for is kept for ever")
	}
	m.Forget()
	if _, ok := m.Get("used"); ok {
		t.Error("it does not forget")
	}
}
