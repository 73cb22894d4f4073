package core

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// outside is what the pure packages may import beyond the standard library.
var outside = []string{"cel.dev/cel-go", "go.yaml.in/yaml", "github.com/santhosh-tekuri/jsonschema",
	"github.com/Masterminds/semver", "github.com/hbollon/go-edlib", "github.com/jellydator/ttlcache",
	"golang.org/x/text"}

// impure are packages of the standard library that core must do without.
var impure = []string{"net", "net/http", "os", "os/exec", "crypto/rand", "math/rand", "math/rand/v2", "database/sql",
	"io/fs"}

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
	case under("internal/core") && library &&
		!slices.ContainsFunc(outside, func(o string) bool { return strings.HasPrefix(imported, o) }):
		return "core has a short list of libraries"
	case under("internal/core") && slices.Contains(impure, imported):
		return "core does no I/O, reads no clock and draws nothing"
	case under("sim") && ours && !strings.HasPrefix(inner, "sim"):
		return "the simulated clouds know nothing of the product"
	case ours && (inner == "sim" || strings.HasPrefix(inner, "sim/")) && !under("sim") && !under("cmd/simcloud") &&
		!under("test") && !strings.HasSuffix(pkg, "test"):
		return "the product meets the simulated clouds over the wire only"
	case strings.HasPrefix(imported, "github.com/jackc/pgx") && !under("internal/store") &&
		!under("internal/postgres") && !under("internal/engine") && !under("internal/probe") && !under("sim/guest") &&
		!under("sim/database") && !under("test") && !strings.HasSuffix(pkg, "test"):
		return "only store speaks SQL"
	case slices.Contains(useCases, strings.TrimPrefix(pkg, "internal/")) &&
		(imported == "net/http" || strings.Contains(imported, "echo") || strings.Contains(imported, "cobra")):
		return "use cases know neither HTTP nor terminals"
	}
	from, product := strings.CutPrefix(pkg, "internal/")
	if to, also := strings.CutPrefix(inner, "internal/"); product && also {
		return higher(from, to)
	}
	return ""
}

// useCases are the rooms that know neither HTTP nor terminals.
var useCases = []string{"request", "audit", "people", "accounts", "templates", "stacks", "secrets", "proposing",
	"service"}

// floors are the packages of the product above core, from the ground up: each may import what
// stands on a lower line. Those of one line do not know each other.
var floors = [][]string{
	{"access", "fault", "reach", "trust", "turnstile", "tlstest"},
	{"gentle", "openid", "secret", "postgres", "exchange", "proposal", "task", "cloud"},
	{"store", "library", "probe"},
	{"sealed", "refusal"},
	{"engine", "people", "connect"},
	{"request", "audit"},
	{"accounts", "templates"},
	{"stacks"},
	{"secrets"},
	{"proposing"},
	{"review", "service", "api/contract"},
	{"api"},
	{"daemon"},
	{"demo"},
	{"cli"},
}

// higher says that a package imports one of its own floor or of a higher one.
func higher(pkg, imported string) string {
	floor := func(name string) int {
		return slices.IndexFunc(floors, func(on []string) bool { return slices.Contains(on, name) })
	}
	from, to := floor(pkg), floor(imported)
	outer, _, within := strings.Cut(pkg, "/")
	switch {
	case strings.HasPrefix(pkg, "core") || strings.HasSuffix(pkg, "test") || within && from < 0 && floor(outer) >= 0:
		return "" // core has rules of its own, and what is within a room stands where the room does
	case from < 0:
		return "no floor is said for " + pkg
	case to < 0 || to < from:
		return ""
	}
	return "it stands on the same floor, or on a higher one"
}
