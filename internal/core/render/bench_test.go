package render

import (
	"fmt"
	"strings"
	"testing"

	"undersail/internal/core/lang"
)

// large gives a template of 50 declarations, each repeated and with five
// expressions, that together make the number of resources.
func large(t testing.TB, resources int) *lang.Template {
	t.Helper()
	var b strings.Builder
	b.WriteString("undersail: 1\nabout: {name: large, version: 1.0.0, title: Large}\ninputs: {prefix: {type: string, default: tide}}\nresources:\n")
	for d := range 50 {
		before := "=inputs.prefix"
		if d > 0 {
			before = fmt.Sprintf("=d%d[index].id", d-1)
		}
		fmt.Fprintf(&b, `  d%d:
    type: disk
    repeat: %d
    want:
      name: =inputs.prefix + "-" + string(index)
      size: =string(index %% 90 + 10) + "GiB"
      type: =index %% 2 == 0 ? "solid" + "" : "cold" + ""
      encrypted: =index %% 3 == 0
      tags: {before: %q}
`, d, resources/50, before)
	}
	text := strings.ReplaceAll(b.String(), `type: =index % 2 == 0 ? "solid" + "" : "cold" + ""`, `type: '=index % 2 == 0 ? "solid" : "cold"'`)
	template, found := lang.Read("large", []byte(text))
	if template == nil {
		t.Fatal(found)
	}
	return template
}

// BenchmarkRender tells the time of a resource at two sizes: it must not grow
// with the number of resources.
func BenchmarkRender(b *testing.B) {
	for _, n := range []int{1_000, 10_000} {
		template := large(b, n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				if r := Render(Request{Template: template, Stack: Stack{Name: "s"}}); len(r.Resources) != n || len(r.Findings) > 0 {
					b.Fatal(len(r.Resources), r.Findings)
				}
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/resource")
		})
	}
}
