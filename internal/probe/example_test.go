package probe_test

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"

	"undersail/internal/core/health"
	"undersail/internal/probe"
	"undersail/internal/reach"
)

func ExampleProber_Look() {
	gauge := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprint(w, "feeds 5")
	}))
	defer gauge.Close()
	policy, err := reach.NewPolicy("127.0.0.0/8")
	if err != nil {
		fmt.Println(err)
		return
	}
	e := probe.Prober{Policy: policy}.Look(context.Background(), "gauge", health.Check{
		Name: "page",
		Kind: "http",
		Spec: map[string]any{"url": gauge.URL, "contains": "feeds 5"},
	})
	fmt.Println(e.Answer, e.Passed)
	// Output: 200 feeds 5 true
}

// Nothing is asked at an address that the policy does not open.
func ExampleProber_Look_closed() {
	policy, err := reach.NewPolicy()
	if err != nil {
		fmt.Println(err)
		return
	}
	e := probe.Prober{Policy: policy}.Look(context.Background(), "gauge", health.Check{
		Name: "page",
		Kind: "http",
		Spec: map[string]any{"url": "http://169.254.169.254/"},
	})
	fmt.Println(e.Passed)
	// Output: false
}
