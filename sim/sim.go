// Package sim runs the simulated public clouds: it claims addresses, serves the
// clouds and the ledger over HTTP, and keeps everything in one directory. It
// imports nothing of the product, so the product can only meet it over the
// wire.
package sim

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"undersail/sim/database"
	"undersail/sim/guest"
	"undersail/sim/larch"
	"undersail/sim/market"
	"undersail/sim/openid"
	"undersail/sim/world"
)

// Config is how a simulator runs.
type Config struct {
	Dir      string   // where state lasts
	Accounts []string // names of the accounts to have
	Pace     float64  // cloud seconds in a real one
	Seed     uint64
	Market   string // path of a market file; empty for the standard one
	Port     int    // of Larch; 0 for any
	// Quotas replace those of the market, by name.
	Quotas map[string]int64
	Rate   float64 // calls a second that an account may make; 0 for the usual 40
}

// Files that a running simulator leaves in its directory.
const (
	placeFile    = "simcloud.json"
	accountsFile = "accounts.json"
)

// Place tells where a running simulator is.
type Place struct {
	Larch string `json:"larch"`
	Admin string `json:"admin"` // ledger and faults
	// OpenID is the issuer of the provider that people sign in by.
	OpenID string  `json:"openid"`
	Pace   float64 `json:"pace"`
	PID    int     `json:"pid"`
}

// Running is a simulator that serves.
type Running struct {
	Place    Place
	Accounts []larch.Account
	world    *world.World
	cloud    *larch.Cloud
	fabric   *guest.Fabric
	servers  []*http.Server
	lock     net.Listener
}

// Start brings a simulator up and returns once it answers.
func Start(c Config) (*Running, error) {
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return nil, err
	}
	m, err := readMarket(c.Market)
	if err != nil {
		return nil, err
	}
	m.Replace(c.Quotas)
	if c.Pace <= 0 {
		c.Pace = 60
	}
	w, err := world.Open(c.Dir, c.Pace, c.Seed)
	if err != nil {
		return nil, err
	}
	accounts, err := readAccounts(c)
	if err != nil {
		return nil, err
	}
	block, lock, err := claimBlock(w)
	if err != nil {
		return nil, err
	}
	machines := filepath.Join(c.Dir, "machines")
	if err := os.MkdirAll(machines, 0o700); err != nil {
		return nil, err
	}
	r := &Running{Accounts: accounts, world: w, fabric: guest.NewFabric(m.Software, w.Real, machines), lock: lock}
	cloud := larch.New(w, m, r.fabric, accounts, database.New(filepath.Join(c.Dir, "databases")), block, c.Rate)
	r.cloud = cloud
	if known, ok := w.Note("larch_port").(float64); ok && c.Port == 0 {
		c.Port = int(known) // accounts of the product know this port
	}
	larchURL, err := r.serve(c.Port, cloud.Handler())
	if err != nil {
		return nil, err
	}
	adminURL, err := r.serve(0, admin(w, cloud))
	if err != nil {
		return nil, err
	}
	issuer, err := r.serveOpenID(w)
	if err != nil {
		return nil, err
	}
	r.Place = Place{Larch: larchURL, Admin: adminURL, OpenID: issuer, Pace: c.Pace, PID: os.Getpid()}
	if _, port, err := net.SplitHostPort(r.servers[0].Addr); err == nil {
		n, _ := strconv.Atoi(port)
		w.SetNote("larch_port", float64(n))
	}
	return r, writeFile(filepath.Join(c.Dir, placeFile), r.Place)
}

// people are those who can sign in by OpenID Connect, with their groups.
var people = []openid.Person{
	{Subject: "p-101", Name: "wren", FullName: "Wren Castell", Groups: []string{"tide-operators"}},
	{Subject: "p-102", Name: "sela", FullName: "Sela Okoro", Groups: []string{"tide-watch"}},
	{Subject: "p-103", Name: "bram", FullName: "Bram Tully", Groups: []string{"gardeners"}},
}

// serveOpenID serves the provider, at the port that services know, for services on this
// machine.
func (r *Running) serveOpenID(w *world.World) (string, error) {
	known, _ := w.Note("openid_port").(float64)
	var p *openid.Provider
	issuer, err := r.serve(int(known),
		http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) { p.ServeHTTP(w, req) }))
	if err != nil {
		return "", err
	}
	here := func(at string) bool {
		u, err := url.Parse(at)
		return err == nil && (u.Hostname() == "127.0.0.1" || u.Hostname() == "localhost")
	}
	p = openid.New(issuer, people, map[string]openid.Client{"undersail": {Returns: here}})
	if _, port, err := net.SplitHostPort(strings.TrimPrefix(issuer, "http://")); err == nil {
		n, _ := strconv.Atoi(port)
		w.SetNote("openid_port", float64(n))
	}
	return issuer, nil
}

// Real turns cloud seconds into real time.
func (r *Running) Real(cloudSeconds float64) time.Duration { return r.world.Real(cloudSeconds) }

// SecretValue gives the value of the secret of a label, which no ledger tells.
func (r *Running) SecretValue(label string) (value string) {
	r.world.Update(func(tx *world.Tx) error {
		for _, x := range tx.All(func(x *world.Resource) bool { return x.Kind == "secrets" && x.Label == label }) {
			value, _ = x.Properties["value"].(string)
		}
		return nil
	})
	return value
}

// Close stops serving. The state stays.
func (r *Running) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	for _, s := range r.servers {
		if s.Shutdown(ctx) != nil {
			s.Close()
		}
	}
	r.cloud.Close()
	r.fabric.Close()
	r.lock.Close()
	return r.world.Close()
}

func (r *Running) serve(port int, h http.Handler) (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(port))
	if err != nil {
		return "", fmt.Errorf("listen: %w", err)
	}
	s := &http.Server{Addr: l.Addr().String(), Handler: h, ReadHeaderTimeout: 10 * time.Second}
	r.servers = append(r.servers, s)
	go s.Serve(l)
	return "http://" + l.Addr().String(), nil
}

func readMarket(path string) (*market.Market, error) {
	if path == "" {
		return market.Standard()
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read market: %w", err)
	}
	return market.Parse(data)
}

// readAccounts gives every named account a client id and secret, once.
func readAccounts(c Config) ([]larch.Account, error) {
	path := filepath.Join(c.Dir, accountsFile)
	var accounts []larch.Account
	data, err := os.ReadFile(path)
	if err == nil {
		if err := json.Unmarshal(data, &accounts); err != nil {
			return nil, fmt.Errorf("read accounts: %w", err)
		}
	} else if !errors.Is(err, os.ErrNotExist) {
		return nil, err
	}
	for _, name := range c.Accounts {
		known := false
		for _, a := range accounts {
			known = known || a.Name == name
		}
		if !known {
			accounts = append(accounts, larch.Account{
				Name:         name,
				ClientID:     name + "-" + randomHex(4),
				ClientSecret: randomHex(20),
			})
		}
	}
	return accounts, writeFile(path, accounts)
}

func randomHex(n int) string {
	b := make([]byte, n)
	rand.Read(b)
	return hex.EncodeToString(b)
}

func writeFile(path string, v any) error {
	data, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(path+".new", data, 0o600); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

// claimBlock takes 250 loopback addresses that no other simulator of this
// machine uses, the same ones again after a restart. A listener on the block's
// last address is the claim.
func claimBlock(w *world.World) (string, net.Listener, error) {
	claim := func(block string) (net.Listener, error) { return net.Listen("tcp", block+".254:47001") }
	if block, ok := w.Note("block").(string); ok {
		for range 50 { // the simulator before us may still be on its way out
			if l, err := claim(block); err == nil {
				return block, l, nil
			}
			time.Sleep(100 * time.Millisecond)
		}
		return "", nil, fmt.Errorf("the addresses %s.0/24 are in use by another simulator with the same state", block)
	}
	// From somewhere on: the first free ones may be those of a simulator that is being
	// started again.
	const blocks = 64 * 256
	from := mathrand.IntN(blocks)
	for i := range blocks {
		at := (from + i) % blocks
		block := fmt.Sprintf("127.%d.%d", 64+at/256, at%256)
		if l, err := claim(block); err == nil {
			w.SetNote("block", block)
			return block, l, nil
		}
	}
	return "", nil, errors.New("no loopback addresses are free")
}

// ReadPlace finds the simulator that runs in a directory.
func ReadPlace(dir string) (Place, error) {
	var p Place
	data, err := os.ReadFile(filepath.Join(dir, placeFile))
	if err != nil {
		return p, fmt.Errorf("no simulator has run in %s: %w", dir, err)
	}
	return p, json.Unmarshal(data, &p)
}

// admin serves the ledger, the faults and changes by hand, for tests and demonstrations only.
func admin(w *world.World, cloud *larch.Cloud) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("DELETE /resources/{name}", func(rw http.ResponseWriter, r *http.Request) {
		done(rw, cloud.DeleteByHand(r.PathValue("name"), r.URL.Query().Has("force")))
	})
	mux.HandleFunc("PATCH /resources/{name}", func(rw http.ResponseWriter, r *http.Request) {
		var properties map[string]any
		if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 1<<20)).Decode(&properties); err != nil {
			answer(rw, 400, map[string]string{"error": err.Error()})
			return
		}
		done(rw, cloud.ChangeByHand(r.PathValue("name"), properties))
	})
	mux.HandleFunc("GET /ledger", func(rw http.ResponseWriter, _ *http.Request) { answer(rw, 200, w.Ledger()) })
	mux.HandleFunc("GET /faults", func(rw http.ResponseWriter, _ *http.Request) { answer(rw, 200, w.Faults()) })
	mux.HandleFunc("POST /faults", func(rw http.ResponseWriter, r *http.Request) {
		f := world.Fault{Count: 1}
		if err := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 1<<16)).Decode(&f); err != nil {
			answer(rw, 400, map[string]string{"error": err.Error()})
			return
		}
		if _, known := world.FaultKinds[f.Kind]; !known {
			answer(rw, 400, map[string]any{"error": "unknown kind of fault", "kinds": world.FaultKinds})
			return
		}
		answer(rw, 201, w.AddFault(f))
	})
	mux.HandleFunc("DELETE /faults", func(rw http.ResponseWriter, r *http.Request) {
		id, _ := strconv.Atoi(r.URL.Query().Get("id"))
		w.ClearFaults(id)
		answer(rw, 200, w.Faults())
	})
	return mux
}

func done(w http.ResponseWriter, err error) {
	if err != nil {
		answer(w, 409, map[string]string{"error": err.Error()})
		return
	}
	answer(w, 200, map[string]bool{"done": true})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}
