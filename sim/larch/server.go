// Package larch is the simulated cloud Larch: resources named by the client over
// REST, long work as operations to poll, OAuth 2 client credentials with tokens
// that live minutes, problem details for errors, 429 with Retry-After when an
// account asks too often.
package larch

import (
	"cmp"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/time/rate"

	"undersail/sim/database"
	"undersail/sim/guest"
	"undersail/sim/market"
	"undersail/sim/world"
)

// Account is a customer of the cloud.
type Account struct {
	Name         string    `json:"name"`
	ClientID     string    `json:"client_id"`
	ClientSecret string    `json:"client_secret"`
	Ends         time.Time `json:"ends,omitzero"` // when its credentials end; zero for never
}

// Cloud serves one Larch.
type Cloud struct {
	world    *world.World
	market   *market.Market
	fabric   *guest.Fabric
	accounts []Account
	block    string // first three parts of its public addresses
	rate     float64

	nameServer string // host:port
	servers    []*dns.Server
	databases  *database.Servers
	pools      atomic.Bool   // there is, or was, a pool
	over       chan struct{} // closed when it ends

	mu       sync.Mutex
	tokens   map[string]token
	limiters map[string]*rate.Limiter
	opened   map[string]int // generations of databases that let in whom they should
}

type token struct {
	account Account
	until   time.Time
}

const (
	tokenLife = 10 * time.Minute
	maxBody   = 1 << 20
	perSecond = 40.0 // calls of an account, unless told otherwise; bursts are twice that
)

// New makes a cloud and boots the guests that were running. Calls is how many
// an account may make in a second; 0 means 40.
func New(w *world.World, m *market.Market, f *guest.Fabric, accounts []Account, databases *database.Servers,
	block string, calls float64) *Cloud {
	c := &Cloud{
		world:     w,
		market:    m,
		fabric:    f,
		accounts:  accounts,
		block:     block,
		rate:      cmp.Or(calls, perSecond),
		tokens:    map[string]token{},
		limiters:  map[string]*rate.Limiter{},
		over:      make(chan struct{}),
		databases: databases,
		opened:    map[string]int{},
	}
	c.serveNames()
	c.resume()
	go c.tend()
	return c
}

// Close ends what the cloud serves beside its API.
func (c *Cloud) Close() {
	close(c.over)
	for _, s := range c.servers {
		s.Shutdown()
	}
	c.databases.Close()
}

// Handler serves the cloud's API.
func (c *Cloud) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /sign-in/token", c.recorded(c.signIn))
	mux.HandleFunc("GET /v1/me", c.recorded(c.signedIn(c.me)))
	mux.HandleFunc("GET /v1/regions/{region}/market", c.recorded(c.signedIn(c.sells)))
	mux.HandleFunc("PUT /v1/terms/{terms}", c.recorded(c.signedIn(c.accept)))
	mux.HandleFunc("PUT /v1/regions/{region}/features/{feature}", c.recorded(c.signedIn(c.turnOn)))
	mux.HandleFunc("GET /v1/regions/{region}/instances/{name}/log", c.recorded(c.signedIn(c.log)))
	mux.HandleFunc("GET /v1/regions/{region}/taken", c.recorded(c.signedIn(c.isTaken)))
	mux.HandleFunc("GET /v1/regions/{region}/resources", c.recorded(c.signedIn(c.list)))
	mux.HandleFunc("GET /v1/regions/{region}/operations/{operation}", c.recorded(c.signedIn(c.operation)))
	mux.HandleFunc("PUT /v1/regions/{region}/{kind}/{name}", c.recorded(c.signedIn(c.create)))
	mux.HandleFunc("GET /v1/regions/{region}/{kind}/{name}", c.recorded(c.signedIn(c.read)))
	mux.HandleFunc("PATCH /v1/regions/{region}/{kind}/{name}", c.recorded(c.signedIn(c.change)))
	mux.HandleFunc("DELETE /v1/regions/{region}/{kind}/{name}", c.recorded(c.signedIn(c.remove)))
	return mux
}

// refusal is a problem (RFC 9457) that a handler answers with.
type refusal struct {
	Status int            `json:"status"`
	Type   string         `json:"type"`
	Title  string         `json:"title"`
	Detail string         `json:"detail,omitempty"`
	More   map[string]any `json:"-"`
}

func (r *refusal) Error() string { return r.Title }

func refuse(status int, kind, title string, more map[string]any) error {
	return &refusal{Status: status, Type: "urn:larch:" + kind, Title: title, More: more}
}

type handler func(w http.ResponseWriter, r *http.Request) error

// recorded writes errors as problems and every call into the ledger.
func (c *Cloud) recorded(h handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		seen := &seen{ResponseWriter: w, status: http.StatusOK}
		r.Body = http.MaxBytesReader(w, r.Body, maxBody)
		call := world.Call{At: time.Now(), Method: r.Method, Path: r.URL.RequestURI()}
		r = r.WithContext(withCall(r.Context(), &call))
		err := h(seen, r)
		var lost *lostAnswer
		if errors.As(err, &lost) {
			call.Status, call.Fault = seen.status, "lose-answer"
			c.world.Record(call)
			panic(http.ErrAbortHandler) // the connection breaks without an answer
		}
		if err != nil {
			writeProblem(seen, err)
		}
		call.Status = seen.status
		c.world.Record(call)
	}
}

type seen struct {
	http.ResponseWriter
	status int
}

func (s *seen) WriteHeader(status int) { s.status = status; s.ResponseWriter.WriteHeader(status) }

func writeProblem(w http.ResponseWriter, err error) {
	var r *refusal
	if !errors.As(err, &r) {
		r = &refusal{Status: http.StatusBadRequest, Type: "urn:larch:malformed", Title: err.Error()}
	}
	body := map[string]any{"type": r.Type, "title": r.Title, "status": r.Status}
	maps.Copy(body, r.More)
	if after, ok := r.More["retry_after"]; ok {
		w.Header().Set("Retry-After", fmt.Sprint(after))
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(r.Status)
	json.NewEncoder(w).Encode(body)
}

type lostAnswer struct{}

func (*lostAnswer) Error() string { return "answer lost" }

func writeJSON(w http.ResponseWriter, status int, v any) error {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	return json.NewEncoder(w).Encode(v)
}

func readJSON(r *http.Request, into any) error {
	d := json.NewDecoder(r.Body)
	d.DisallowUnknownFields()
	d.UseNumber()
	if err := d.Decode(into); err != nil {
		return refuse(400, "malformed", "the body is not what is wanted: "+err.Error(), nil)
	}
	return nil
}

func (c *Cloud) signIn(w http.ResponseWriter, r *http.Request) error {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if r.FormValue("grant_type") != "client_credentials" {
		return writeJSON(w, 400, map[string]string{"error": "unsupported_grant_type"})
	}
	i := slices.IndexFunc(c.accounts, func(a Account) bool { return a.ClientID == id && a.ClientSecret == secret })
	if i >= 0 && c.ended(c.accounts[i].Name) {
		return writeJSON(w, 401, map[string]string{"error": "invalid_client"})
	}
	if i < 0 || !c.accounts[i].Ends.IsZero() && time.Now().After(c.accounts[i].Ends) {
		return writeJSON(w, 401, map[string]string{"error": "invalid_client"})
	}
	raw := make([]byte, 24)
	rand.Read(raw)
	value := hex.EncodeToString(raw)
	c.mu.Lock()
	c.tokens[value] = token{c.accounts[i], time.Now().Add(tokenLife)}
	c.mu.Unlock()
	return writeJSON(w, 200, map[string]any{
		"access_token": value,
		"token_type":   "Bearer",
		"expires_in":   int(tokenLife.Seconds()),
	})
}

// ended reports whether an account's credentials have come to their end.
func (c *Cloud) ended(account string) bool {
	_, hit := c.world.Planned("credentials-end", account, "", "")
	return hit
}

// signedIn checks the token, the account's rate, and the faults that strike
// calls before they are carried out.
func (c *Cloud) signedIn(h handler) handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		value := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
		c.mu.Lock()
		t, ok := c.tokens[value]
		limiter := c.limiters[t.account.Name]
		if ok && limiter == nil {
			limiter = rate.NewLimiter(rate.Limit(c.rate), int(2*c.rate))
			c.limiters[t.account.Name] = limiter
		}
		c.mu.Unlock()
		if !ok || time.Now().After(t.until) || c.ended(t.account.Name) {
			return refuse(401, "token", "the token is missing, unknown or over", nil)
		}
		call := callOf(r.Context())
		call.Account = t.account.Name
		on, label := r.PathValue("kind"), r.PathValue("name")
		label += " " + r.Header.Get("Larch-Label")
		if f, hit := c.world.Strike("throttle", t.account.Name, on, label, r.Method); hit {
			call.Fault = "throttle"
			return refuse(429, "throttled", "too many calls", map[string]any{"retry_after": max(1, f.Seconds)})
		}
		if !limiter.Allow() {
			return refuse(429, "throttled", "too many calls", map[string]any{"retry_after": 1})
		}
		if _, hit := c.world.Strike("server-error", t.account.Name, on, label, r.Method); hit {
			call.Fault = "server-error"
			return refuse(503, "unavailable", "try again", nil)
		}
		if f, hit := c.world.Strike("slow", t.account.Name, on, label, r.Method); hit {
			call.Fault = "slow"
			select {
			case <-time.After(time.Duration(f.Seconds) * time.Second):
			case <-r.Context().Done():
			}
		}
		if region := r.PathValue("region"); region != "" {
			if _, known := c.market.Regions[region]; !known {
				return refuse(404, "no-region", "there is no region "+region, nil)
			}
		}
		return h(w, r)
	}
}

func (c *Cloud) me(w http.ResponseWriter, r *http.Request) error {
	a := c.account(r)
	out := map[string]any{
		"account":     a.Name,
		"roles":       []string{"builder"},
		"clock_rate":  c.world.Pace(),
		"guest_range": "127.64.0.0/10",
		"name_server": c.nameServer,
		"regions":     slices.Sorted(maps.Keys(c.market.Regions)),
	}
	if !a.Ends.IsZero() {
		out["credentials_end"] = a.Ends
	}
	may := []string{}
	for _, k := range kinds {
		if _, hit := c.world.Planned("denied", a.Name, k.plural, ""); !hit {
			may = append(may, k.plural+".make")
		}
	}
	out["permissions"] = may
	return writeJSON(w, 200, out)
}

func (c *Cloud) account(r *http.Request) Account {
	value := strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.tokens[value].account
}

// list tells the resources of a region, those with a tag when one is named, and
// those that refer to one of some ids,
// fifty to a page with a Link to the next.
func (c *Cloud) list(w http.ResponseWriter, r *http.Request) error {
	account, region := c.account(r).Name, r.PathValue("region")
	tagName, tagValue, hasTag := strings.Cut(r.URL.Query().Get("tag"), ":")
	kind := r.URL.Query().Get("kind")
	var refers []string
	if ids := r.URL.Query().Get("refers"); ids != "" {
		refers = strings.Split(ids, ",")
	}
	var all []*world.Resource
	err := c.world.Update(func(tx *world.Tx) error {
		all = tx.All(func(x *world.Resource) bool {
			return x.Account == account && x.Region == region && !time.Now().Before(x.VisibleAt) &&
				(!hasTag || x.Tags[tagName] == tagValue) && (kind == "" || x.Kind == kind) &&
				(refers == nil || slices.ContainsFunc(refers,
					func(id string) bool { return refersTo(x.Properties, id) }))
		})
		return nil
	})
	if err != nil {
		return err
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("from"))
	from = min(max(from, 0), len(all))
	to := min(from+50, len(all))
	if to < len(all) {
		q := r.URL.Query()
		q.Set("from", strconv.Itoa(to))
		w.Header().Set("Link", fmt.Sprintf("<%s?%s>; rel=\"next\"", r.URL.Path, q.Encode()))
	}
	docs := []map[string]any{}
	for _, x := range all[from:to] {
		docs = append(docs, c.document(x))
	}
	return writeJSON(w, 200, map[string]any{"resources": docs})
}

func (c *Cloud) operation(w http.ResponseWriter, r *http.Request) error {
	verb, id, _ := strings.Cut(r.PathValue("operation"), ".")
	var x *world.Resource
	err := c.world.Update(func(tx *world.Tx) error { x = tx.ByID(c.account(r).Name, id); return nil })
	if err != nil {
		return err
	}
	if x == nil {
		if verb == "remove" {
			return writeJSON(w, 200, map[string]any{"state": "done"})
		}
		return refuse(404, "gone", "there is no such operation", nil)
	}
	now := time.Now()
	out := map[string]any{"state": "going"}
	switch phase := x.PhaseAt(now); {
	case phase == world.Broken:
		out = map[string]any{"state": "failed", "why": x.Why}
	case verb == "create" && phase != world.Making,
		verb == "change" && phase != world.Changing && phase != world.Making:
		out = map[string]any{"state": "done"}
	}
	return writeJSON(w, 200, out)
}

// document is a resource as the API tells it. Secret values never leave.
func (c *Cloud) document(x *world.Resource) map[string]any {
	now := time.Now()
	attributes := maps.Clone(x.Attributes)
	if g := c.fabric.Guest(x.ID); g != nil {
		attributes["reach"] = g.Reach()
	}
	phase, why := x.PhaseAt(now), x.Why
	switch x.Kind {
	case "databases":
		phase = c.databaseTells(x, phase, attributes)
	case "file-shares":
		c.shareTells(x, phase, attributes)
	case "private-clouds":
		attributes["hosts"] = c.hostsIn(x)
	}
	if phase == world.Ready && c.failed(x) {
		phase, why = world.Broken, "the disk failed"
	}
	doc := map[string]any{"name": x.Name, "id": x.ID, "kind": x.Kind, "label": x.Label, "phase": phase,
		"generation": x.Generation,
		"properties": world.Shown(x.Properties), "attributes": attributes, "tags": x.Tags, "made_at": x.MadeAt,
		"made_by": cmp.Or(x.MadeBy, "a client of the account")}
	if why != "" && phase == world.Broken {
		doc["why"] = why
	}
	if left := x.ReadyAt.Sub(now); left > 0 {
		// The cloud's own guess is up to 30 % off, always the same way for one resource.
		sum := sha256.Sum256([]byte(x.ID))
		doc["ready_in"] = left.Seconds() * c.world.Pace() * (0.7 + 0.6*float64(sum[0])/255)
	}
	return doc
}

// failed reports whether a disk has failed.
func (c *Cloud) failed(x *world.Resource) bool {
	if x.Kind != "disks" {
		return false
	}
	_, hit := c.world.Planned("disk-fails", x.Account, "disks", x.Label+" "+x.Name)
	return hit
}
