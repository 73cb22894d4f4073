// Package openstacktest is a stand-in for an OpenStack cloud, in process. It answers as
// the real services were seen to: names that are not unique, creations that are not
// idempotent, four shapes of errors, statuses that mean several things, and work that goes
// on after the answer.
package openstacktest

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Region is the one region that there is.
const Region = "RegionOne"

// The project and what signs in to it.
const (
	Project           = "a458905db8284a6cbc7dbf938c006ea8"
	ApplicationID     = "5d1b7e2c90f34b4f8d1f6e2a3c4b5d6e"
	ApplicationSecret = "what-nobody-guesses"
)

// Cloud is one cloud with one project.
type Cloud struct {
	*httptest.Server

	mu     sync.Mutex
	things map[string]map[string]thing // by plural and id
	ever   []thing
	number int
	token  int
	// Cores is the quota of compute, Pause how long work takes after an answer.
	Cores int64
	Pause time.Duration
	// Old says that compute ends with version 2.53, Diskless that there are no volumes.
	Old, Diskless bool
}

// thing is one object as its service tells it, with what only the stand-in knows.
type thing map[string]any

func (t thing) text(key string) string { s, _ := t[key].(string); return s }

// Start starts a cloud with the usual flavors, an image and an external network.
func Start() *Cloud {
	c := &Cloud{things: map[string]map[string]thing{}, Cores: 20, Pause: 20 * time.Millisecond}
	for i, f := range []struct {
		name       string
		vcpus, ram int64
	}{
		{"s1.tiny", 1, 512},
		{"s1.small", 1, 2048},
		{"s1.medium", 2, 4096},
		{"s1.large", 4, 8192},
		{"us.huge", 2, 40000},
	} {
		c.put("flavors", thing{
			"id":                        fmt.Sprint(i + 1),
			"name":                      f.name,
			"vcpus":                     f.vcpus,
			"ram":                       f.ram,
			"disk":                      20,
			"OS-FLV-EXT-DATA:ephemeral": 0,
			"OS-FLV-DISABLED:disabled":  false,
		})
	}
	c.things["flavors"]["4"][" specs"] = map[string]any{
		"quota:vif_outbound_average": "125000",
		"quota:disk_total_iops_sec":  "2000",
		"hw:architecture":            "arm64",
	}
	c.put("images", thing{
		"id":        "0c6f9a2e-1111-4f5e-9a6b-debian120000",
		"name":      "debian-12",
		"status":    "active",
		"min_disk":  1,
		"min_ram":   0,
		"os_distro": "debian",
	})
	c.put("networks", thing{
		"id":              "ext",
		"name":            "public",
		"status":          "ACTIVE",
		"router:external": true,
		"description":     "",
		"tags":            []any{},
		"revision_number": 1,
	})
	c.Server = httptest.NewServer(http.HandlerFunc(c.serve))
	return c
}

// Endpoint is that of the identity service.
func (c *Cloud) Endpoint() string { return c.URL + "/identity/v3" }

// Count counts the things that were ever made, by what tells of each.
func (c *Cloud) Count(meant func(kind string, t map[string]any) bool) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := 0
	for _, t := range c.ever {
		if meant(t.text(" kind"), t) {
			n++
		}
	}
	return n
}

// Revoke ends every token that was given.
func (c *Cloud) Revoke() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.token++
}

// Break removes or alters a thing behind everybody's back; nil removes it.
func (c *Cloud) Break(plural, id string, with map[string]any) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if with == nil {
		delete(c.things[plural], id)
		return
	}
	maps.Copy(c.things[plural][id], with)
}

// Left lists the things that are there and were not from the beginning, as PLURAL/NAME.
func (c *Cloud) Left() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var out []string
	for plural, all := range c.things {
		for id, t := range all {
			if plural != "flavors" && plural != "images" && id != "ext" {
				out = append(out, plural+"/"+t.text("name"))
			}
		}
	}
	slices.Sort(out)
	return out
}

// Used counts the cores that machines have.
func (c *Cloud) used() int64 {
	n := int64(0)
	for _, s := range c.things["servers"] {
		n += c.things["flavors"][s.text(" flavor")]["vcpus"].(int64)
	}
	return n
}

// UsedCores is what of the quota of cores is taken.
func (c *Cloud) UsedCores() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.used()
}

func (c *Cloud) put(plural string, t thing) thing {
	if c.things[plural] == nil {
		c.things[plural] = map[string]thing{}
	}
	if t.text("id") == "" {
		c.number++
		t["id"] = fmt.Sprintf("%08x-0000-4000-8000-%012x", c.number, c.number)
	}
	t[" kind"] = plural
	c.things[plural][t.text("id")] = t
	if c.Server != nil {
		c.ever = append(c.ever, t)
	}
	return t
}

// later does some work of the cloud's own after a while.
func (c *Cloud) later(f func()) {
	time.AfterFunc(c.Pause, func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		f()
	})
}

// refusal is an answer that a service refuses with.
type refusal struct {
	status int
	body   any
	header map[string]string
}

// Each kind of service has a shape of its own for errors.
func faulty(status int, key, message string) *refusal {
	return &refusal{status: status, body: map[string]any{key: map[string]any{"code": status, "message": message}}}
}

func netFault(status int, kind, format string, args ...any) *refusal {
	return &refusal{
		status: status,
		body: map[string]any{
			"NeutronError": map[string]any{"type": kind, "message": fmt.Sprintf(format, args...), "detail": ""},
		},
	}
}

func (c *Cloud) serve(w http.ResponseWriter, r *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	service, path, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	var in map[string]any
	if r.Body != nil {
		json.NewDecoder(r.Body).Decode(&in)
	}
	if service == "identity" && path == "v3/auth/tokens" {
		c.signIn(w, r, in)
		return
	}
	token := "token-" + strconv.Itoa(c.token)
	if r.Header.Get("X-Auth-Token") != token && path != "" && path != "v3" && path != "v3/" {
		reply(w, http.StatusUnauthorized, map[string]any{
			"error": map[string]any{
				"code":    401,
				"title":   "Unauthorized",
				"message": "The request you have made requires authentication.",
			},
		})
		return
	}
	status, out, no := c.route(r, service, path, in)
	if no != nil {
		for k, v := range no.header {
			w.Header().Set(k, v)
		}
		reply(w, no.status, no.body)
		return
	}
	reply(w, status, out)
}

func reply(w http.ResponseWriter, status int, body any) {
	if html, ok := body.(string); ok {
		w.Header().Set("Content-Type", "text/html")
		w.WriteHeader(status)
		fmt.Fprint(w, html)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	if status != http.StatusNoContent && body != nil {
		json.NewEncoder(w).Encode(shown(body))
	}
}

// shown leaves out what only the stand-in knows.
func shown(v any) any {
	switch x := v.(type) {
	case thing:
		return shown(map[string]any(x))
	case map[string]any:
		out := map[string]any{}
		for k, e := range x {
			if !strings.HasPrefix(k, " ") {
				out[k] = shown(e)
			}
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = shown(e)
		}
		return out
	}
	return v
}

func (c *Cloud) signIn(w http.ResponseWriter, _ *http.Request, in map[string]any) {
	auth, _ := in["auth"].(map[string]any)
	id, _ := auth["identity"].(map[string]any)
	app, _ := id["application_credential"].(map[string]any)
	if app["id"] != ApplicationID || app["secret"] != ApplicationSecret {
		reply(w, http.StatusUnauthorized, map[string]any{
			"error": map[string]any{
				"code":    401,
				"title":   "Unauthorized",
				"message": "The request you have made requires authentication.",
			},
		})
		return
	}
	catalog := []any{}
	for _, s := range []struct{ kind, path string }{
		{"identity", "/identity/v3"},
		{"compute", "/compute/v2.1"},
		{"network", "/network"},
		{"volumev3", "/volume/v3/" + Project},
		{"image", "/image"},
	} {
		if s.kind == "volumev3" && c.Diskless {
			continue
		}
		catalog = append(catalog, map[string]any{
			"type": s.kind,
			"id":   s.kind,
			"name": s.kind,
			"endpoints": []any{map[string]any{
				"id":        s.kind,
				"interface": "public",
				"region":    Region,
				"region_id": Region,
				"url":       c.URL + s.path,
			}},
		})
	}
	w.Header().Set("X-Subject-Token", "token-"+strconv.Itoa(c.token))
	reply(w, http.StatusCreated, map[string]any{"token": map[string]any{
		"methods":    []any{"application_credential"},
		"expires_at": time.Now().Add(time.Hour).UTC().Format("2006-01-02T15:04:05.000000Z"),
		"issued_at":  time.Now().UTC().Format("2006-01-02T15:04:05.000000Z"),
		"user": map[string]any{
			"id":     "sailor",
			"name":   "sailor",
			"domain": map[string]any{"id": "default", "name": "Default"},
		},
		"project": map[string]any{
			"id":     Project,
			"name":   "harbour",
			"domain": map[string]any{"id": "default", "name": "Default"},
		},
		"roles":   []any{map[string]any{"id": "member", "name": "member"}},
		"catalog": catalog,
	}})
}

// versions are what the roots of the services tell.
var versions = map[string]map[string]any{
	"compute": {"id": "v2.1", "status": "CURRENT", "version": "2.93", "min_version": "2.1"},
	"network": {"id": "v2.0", "status": "CURRENT"},
	"volume":  {"id": "v3.0", "status": "CURRENT", "version": "3.70", "min_version": "3.0"},
	"image":   {"id": "v2.15", "status": "CURRENT"},
}

func (c *Cloud) route(r *http.Request, service, path string, in map[string]any) (int, any, *refusal) {
	v := versions[service]
	if v != nil && len(strings.Split(strings.Trim(path, "/"), "/")) == 1 && !strings.Contains(path, "images") {
		return http.StatusOK, map[string]any{"versions": []any{v}}, nil
	}
	switch service {
	case "identity":
		if strings.HasSuffix(path, "application_credentials/"+ApplicationID) {
			return http.StatusOK, map[string]any{
				"application_credential": map[string]any{"id": ApplicationID, "expires_at": nil},
			}, nil
		}
		return http.StatusOK, map[string]any{
			"version": map[string]any{
				"id":     "v3.14",
				"status": "stable",
				"links":  []any{map[string]any{"rel": "self", "href": c.URL + "/identity/v3/"}},
			},
		}, nil
	case "compute":
		return c.compute(r, strings.TrimPrefix(path, "v2.1/"), in)
	case "network":
		return c.network(r, strings.TrimPrefix(path, "v2.0/"), in)
	case "volume":
		return c.volume(r, strings.TrimPrefix(path, "v3/"+Project+"/"), in)
	case "image":
		if path == "v2/images" {
			return http.StatusOK, map[string]any{"images": c.rows("images", nil)}, nil
		}
		return 0, nil, &refusal{
			status: http.StatusNotFound,
			body: "<html><head><title>404 Not Found</title></head><body><h1>404 Not Found</h1>No image found<br " +
				"/></body></html>",
		}
	}
	return 0, nil, &refusal{status: http.StatusNotFound}
}

// rows lists the things of a kind that a filter leaves, in the order in which they were made.
func (c *Cloud) rows(plural string, keep func(thing) bool) []any {
	ids := slices.Sorted(maps.Keys(c.things[plural]))
	out := []any{}
	for _, id := range ids {
		if t := c.things[plural][id]; keep == nil || keep(t) {
			out = append(out, t)
		}
	}
	return out
}

// page gives a part of a list with the link to the next, as the services do.
func page(r *http.Request, plural string, rows []any) map[string]any {
	limit, _ := strconv.Atoi(r.URL.Query().Get("limit"))
	marker := r.URL.Query().Get("marker")
	key := func(v any) string { t, _ := v.(thing); return t.text("id") }
	if marker != "" {
		if i := slices.IndexFunc(rows, func(v any) bool { return key(v) == marker }); i >= 0 {
			rows = rows[i+1:]
		}
	}
	name := strings.ReplaceAll(plural, "-", "_")
	out := map[string]any{name: rows}
	if limit > 0 && len(rows) > limit {
		q := r.URL.Query()
		q.Set("marker", key(rows[limit-1]))
		out[name] = rows[:limit]
		out[name+"_links"] = []any{map[string]any{
			"rel":  "next",
			"href": "http://not-reached.example" + r.URL.Path + "?" + q.Encode(),
		}}
	}
	return out
}

func inRange(address, cidr string) bool {
	p, err := netip.ParsePrefix(cidr)
	a, errA := netip.ParseAddr(address)
	return err == nil && errA == nil && p.Contains(a)
}
