package core

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// outside is what the pure packages may import beyond the standard library.
var outside = []string{"cel.dev/cel-go", "go.yaml.in/yaml", "github.com/santhosh-tekuri/jsonschema", "github.com/Masterminds/semver", "golang.org/x/text"}

// impure are packages of the standard library that core must do without.
var impure = []string{"net", "net/http", "os", "os/exec", "crypto/rand", "math/rand", "math/rand/v2", "database/sql", "io/fs"}

func TestWhoMayImportWhom(t *testing.T) {
	t.Parallel()
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}}: {{join .Imports " "}}`, "undersail/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(out)) {
		pkg, list, _ := strings.Cut(strings.TrimSpace(line), ": ")
		for _, imported := range strings.Fields(list) {
			if why := forbidden(strings.TrimPrefix(pkg, "undersail/"), imported); why != "" {
				t.Errorf("%s imports %s: %s", pkg, imported, why)
			}
		}
	}
}

func forbidden(pkg, imported string) string {
	inner, ours := strings.CutPrefix(imported, "undersail/")
	under := func(p string) bool { return pkg == p || strings.HasPrefix(pkg, p+"/") }
	library := strings.Contains(strings.Split(imported, "/")[0], ".")
	switch {
	case under("internal/core") && ours && !strings.HasPrefix(inner, "internal/core/"):
		return "core imports nothing of the rest"
	case under("internal/core") && library && !slices.ContainsFunc(outside, func(o string) bool { return strings.HasPrefix(imported, o) }):
		return "core has a short list of libraries"
	case under("internal/core") && slices.Contains(impure, imported):
		return "core does no I/O, reads no clock and draws nothing"
	case under("sim") && ours && !strings.HasPrefix(inner, "sim"):
		return "the simulated clouds know nothing of the product"
	case ours && (inner == "sim" || strings.HasPrefix(inner, "sim/")) && !under("sim") && !under("cmd/simcloud") && !under("test") && !strings.HasSuffix(pkg, "test"):
		return "the product meets the simulated clouds over the wire only"
	case strings.HasPrefix(imported, "github.com/jackc/pgx") && !under("internal/store") && !under("internal/postgres") && !under("internal/engine") && !under("internal/probe") && !under("sim/guest") && !under("sim/database") && !under("test"):
		return "only store speaks SQL"
	case pkg == "internal/service" && (imported == "net/http" || strings.Contains(imported, "echo") || strings.Contains(imported, "cobra")):
		return "use cases know neither HTTP nor terminals"
	}
	return ""
}
