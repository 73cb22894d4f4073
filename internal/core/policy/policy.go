// Package policy holds the rules that look at a rendering and say what a
// careful colleague would say. It changes nothing and blocks nothing itself:
// it gives findings.
package policy

import (
	"fmt"

	"undersail/internal/core/lang"
	"undersail/internal/core/render"
	"undersail/internal/core/resource"
)

// rule looks at one resource of a rendering.
type rule func(r render.Resource, all *render.Rendering) *render.Finding

var rules = []rule{openToTheWorld, publicWithoutFirewall, diskWithoutEncryption}

// Check applies every rule to every resource.
func Check(r *render.Rendering) []render.Finding {
	var out []render.Finding
	for _, res := range r.Resources {
		for _, look := range rules {
			if f := look(res, r); f != nil {
				out = append(out, *f)
			}
		}
	}
	return out
}

// openPorts may be open to everybody: they are there to be reached.
var openPorts = map[int64]bool{80: true, 443: true, 8080: true, 8443: true}

func openToTheWorld(r render.Resource, _ *render.Rendering) *render.Finding {
	if r.Type != "firewall" {
		return nil
	}
	list, _ := r.Want["rules"].([]any)
	for _, item := range list {
		m, _ := item.(map[string]any)
		from, err := resource.ParseRange(fmt.Sprint(m["from"]))
		port, _ := m["port"].(int64)
		if err == nil && from.Bits() == 0 && !openPorts[port] {
			return &render.Finding{Severity: lang.Warning, Code: "open-to-world", Place: r.Name,
				Message: fmt.Sprintf("port %d is open to every address there is", port), Remedy: "name the range that its users come from"}
		}
	}
	return nil
}

func publicWithoutFirewall(r render.Resource, _ *render.Rendering) *render.Finding {
	public, _ := r.Want["public"].(bool)
	if r.Type != "instance" || !public && r.Want["address"] == nil || r.Want["firewalls"] != nil {
		return nil
	}
	return &render.Finding{Severity: lang.Warning, Code: "unreachable", Place: r.Name,
		Message: "it has a public address and no firewall, so nothing can connect to it", Remedy: "list a firewall under `firewalls`, or leave the public address out"}
}

func diskWithoutEncryption(r render.Resource, _ *render.Rendering) *render.Finding {
	if encrypted, _ := r.Want["encrypted"].(bool); r.Type != "disk" || encrypted {
		return nil
	}
	return &render.Finding{Severity: lang.Note, Code: "not-encrypted", Place: r.Name,
		Message: "the disk is not encrypted at rest", Remedy: "add `encrypted: true`; it cannot be added later without a rebuild"}
}
