// Package openid is a simulated OpenID Connect provider: it signs made-up people in by the
// authorization code with PKCE (RFC 7636) and by codes that are entered elsewhere (RFC
// 8628). It asks for no passwords, and on request it answers as a broken or hostile provider
// would.
package openid

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// Person is somebody who can sign in.
type Person struct {
	Subject  string   `json:"subject"`
	Name     string   `json:"name"`
	FullName string   `json:"full_name"`
	Groups   []string `json:"groups"`
}

// Client is a service that people sign in to. An empty secret makes it a public one.
type Client struct {
	Secret string
	// Returns reports whether browsers may be sent back to an address.
	Returns func(string) bool
}

// The faults that a provider can be asked for; each lasts for the next answer with a token.
const (
	OtherAudience = "audience" // the token is for another client
	OtherIssuer   = "issuer"
	OtherKey      = "key"
	OtherNonce    = "nonce"
	Unsigned      = "unsigned"
	Ended         = "ended" // the token is over
	NoToken       = "no-token"
	Endless       = "endless" // the answer does not end
	Broken        = "broken"  // status 500
	OtherParty    = "party"   // the token is for this client too, and was made for another
	ManyReaders   = "readers" // it is for several, and does not say for whom it was made
)

// Script lets the next terminal be sent to an address that is no page.
const Script = "script"

// Faults lists all of them.
func Faults() []string {
	return []string{OtherAudience, OtherIssuer, OtherKey, OtherNonce, Unsigned, Ended, NoToken, Endless, Broken,
		OtherParty, ManyReaders}
}

// Provider answers at Issuer.
type Provider struct {
	Issuer  string
	People  []Person
	Clients map[string]Client
	// Interval is how often a terminal may ask; a second when zero.
	Interval time.Duration
	// key is what it signs with; making one takes a while, and few ever ask for it.
	key func() *rsa.PrivateKey

	mu      sync.Mutex
	fault   string
	codes   map[string]grant
	devices map[string]*device // by device code
}

// grant is what a code stands for.
type grant struct {
	client, nonce, challenge, back string
	person                         Person
	until                          time.Time
}

// device is a terminal that waits.
type device struct {
	client, userCode string
	person           *Person
	refused          bool
	until, asked     time.Time
}

// New makes a provider with a key of its own.
func New(issuer string, people []Person, clients map[string]Client) *Provider {
	return &Provider{
		Issuer:   issuer,
		People:   people,
		Clients:  clients,
		Interval: time.Second,
		key:      sync.OnceValue(newKey),
		codes:    map[string]grant{},
		devices:  map[string]*device{},
	}
}

func newKey() *rsa.PrivateKey {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err) // the random source of the system never fails
	}
	return key
}

// Fail asks for a fault of the next answer with a token.
func (p *Provider) Fail(fault string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.fault = fault
}

// SetGroups changes the groups of somebody.
func (p *Provider) SetGroups(name string, groups ...string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range p.People {
		if p.People[i].Name == name {
			p.People[i].Groups = groups
		}
	}
}

// ServeHTTP answers browsers and services.
func (p *Provider) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /.well-known/openid-configuration", p.configuration)
	mux.HandleFunc("GET /keys", p.keys)
	mux.HandleFunc("GET /authorize", p.authorize)
	mux.HandleFunc("POST /authorize", p.authorized)
	mux.HandleFunc("POST /token", p.token)
	mux.HandleFunc("POST /device", p.device)
	mux.HandleFunc("GET /enter", p.enter)
	mux.HandleFunc("POST /enter", p.entered)
	mux.ServeHTTP(w, r)
}

func write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func refuse(w http.ResponseWriter, what string) {
	write(w, http.StatusBadRequest, map[string]string{"error": what})
}

func (p *Provider) configuration(w http.ResponseWriter, _ *http.Request) {
	write(w, http.StatusOK, map[string]any{"issuer": p.Issuer, "authorization_endpoint": p.Issuer + "/authorize",
		"token_endpoint": p.Issuer + "/token", "jwks_uri": p.Issuer + "/keys",
		"device_authorization_endpoint": p.Issuer + "/device", "response_types_supported": []string{"code"},
		"subject_types_supported":               []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"},
		"code_challenge_methods_supported":      []string{"S256"}})
}

func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	write(w, http.StatusOK, jose.JSONWebKeySet{
		Keys: []jose.JSONWebKey{{Key: &p.key().PublicKey, KeyID: "tide", Algorithm: "RS256", Use: "sig"}},
	})
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8"><title>Simulated sign-in</title>
<h1>Simulated sign-in of the Saltmere Tide Office</h1><p>{{.Says}}</p>
<form method="post">{{range $k, $v := .Keep}}<input type="hidden" name="{{$k}}" value="{{$v}}">{{end}}
{{if .Code}}<p><label>Code <input name="user_code" value="{{.Value}}"></label></p>{{end}}
{{range .People}}<p><button name="person" value="{{.Name}}">{{.FullName}} ({{.Name}})</button></p>{{end}}
{{if .Code}}<p><button name="person" value="">Refuse</button></p>{{end}}</form></html>`))

type shown struct {
	Says   string
	Keep   map[string]string
	Code   bool
	Value  string
	People []Person
}

// authorize asks who is there.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	c, ok := p.Clients[q.Get("client_id")]
	if !ok || !c.Returns(q.Get("redirect_uri")) || q.Get("response_type") != "code" ||
		q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "" {
		http.Error(w, "this request to sign in cannot be answered", http.StatusBadRequest)
		return
	}
	keep := map[string]string{}
	for k := range q {
		keep[k] = q.Get(k)
	}
	page.Execute(w, shown{Says: "Who are you?", Keep: keep, People: p.people()})
}

func (p *Provider) people() []Person {
	p.mu.Lock()
	defer p.mu.Unlock()
	return slices.Clone(p.People)
}

func (p *Provider) named(name string) *Person {
	for _, x := range p.people() {
		if x.Name == name {
			return &x
		}
	}
	return nil
}

// authorized sends the browser back with a code.
func (p *Provider) authorized(w http.ResponseWriter, r *http.Request) {
	who := p.named(r.FormValue("person"))
	c, ok := p.Clients[r.FormValue("client_id")]
	back, err := url.Parse(r.FormValue("redirect_uri"))
	if who == nil || !ok || err != nil || !c.Returns(back.String()) {
		http.Error(w, "this request to sign in cannot be answered", http.StatusBadRequest)
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = grant{
		client:    r.FormValue("client_id"),
		nonce:     r.FormValue("nonce"),
		challenge: r.FormValue("code_challenge"),
		back:      back.String(),
		person:    *who,
		until:     time.Now().Add(time.Minute),
	}
	p.mu.Unlock()
	q := back.Query()
	q.Set("code", code)
	q.Set("state", r.FormValue("state"))
	back.RawQuery = q.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// isClient checks who asks for a token.
func (p *Provider) isClient(r *http.Request) (string, bool) {
	id, secret, basic := r.BasicAuth()
	if basic { // RFC 6749, section 2.3.1: both are encoded as in a form
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	c, ok := p.Clients[id]
	return id, ok && c.Secret == secret
}

func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	client, ok := p.isClient(r)
	if !ok {
		write(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	switch r.FormValue("grant_type") {
	case "authorization_code":
		p.mu.Lock()
		g, there := p.codes[r.FormValue("code")]
		delete(p.codes, r.FormValue("code"))
		p.mu.Unlock()
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !there || g.client != client || time.Now().After(g.until) || g.back != r.FormValue("redirect_uri") ||
			base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge {
			refuse(w, "invalid_grant")
			return
		}
		p.answer(w, client, g.nonce, g.person)
	case "urn:ietf:params:oauth:grant-type:device_code":
		p.asked(w, r, client)
	default:
		refuse(w, "unsupported_grant_type")
	}
}

func (p *Provider) asked(w http.ResponseWriter, r *http.Request, client string) {
	p.mu.Lock()
	d := p.devices[r.FormValue("device_code")]
	var who *Person
	what := ""
	switch {
	case d == nil || d.client != client:
		what = "invalid_grant"
	case time.Now().After(d.until):
		what = "expired_token"
	case d.refused:
		what = "access_denied"
	case time.Since(d.asked) < p.Interval*9/10:
		what = "slow_down"
	case d.person == nil:
		what = "authorization_pending"
	default:
		who = d.person
		delete(p.devices, r.FormValue("device_code"))
	}
	if d != nil {
		d.asked = time.Now()
	}
	p.mu.Unlock()
	if who == nil {
		refuse(w, what)
		return
	}
	p.answer(w, client, "", *who)
}

// answer gives the token of somebody, or what a fault makes of it.
func (p *Provider) answer(w http.ResponseWriter, client, nonce string, who Person) {
	p.mu.Lock()
	fault := p.fault
	p.fault = ""
	for _, x := range p.People { // with the groups of now
		if x.Subject == who.Subject {
			who = x
		}
	}
	p.mu.Unlock()
	key := p.key()
	issuer, until := p.Issuer, time.Now().Add(5*time.Minute)
	switch fault {
	case OtherAudience:
		client = "somebody-else"
	case OtherIssuer:
		issuer = "https://elsewhere.example"
	case OtherNonce:
		nonce = rand.Text()
	case Ended:
		until = time.Now().Add(-time.Hour)
	case OtherKey:
		key = newKey()
	case Broken:
		http.Error(w, "something went wrong", http.StatusInternalServerError)
		return
	case Endless:
		w.Header().Set("Content-Type", "application/json")
		for range 4096 {
			if _, err := fmt.Fprint(w, strings.Repeat(" ", 4096)); err != nil {
				return
			}
		}
		return
	}
	aud := any(client)
	if fault == OtherParty || fault == ManyReaders {
		aud = []string{client, "another-reader"}
	}
	claims := map[string]any{
		"iss":                issuer,
		"aud":                aud,
		"sub":                who.Subject,
		"exp":                until.Unix(),
		"iat":                time.Now().Add(-time.Second).Unix(),
		"preferred_username": who.Name,
		"name":               who.FullName,
		"groups":             who.Groups,
	}
	if nonce != "" {
		claims["nonce"] = nonce
	}
	if fault == OtherParty {
		claims["azp"] = "another-reader"
	}
	raw, err := signed(claims, key, fault == Unsigned)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	out := map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": raw}
	if fault == NoToken {
		delete(out, "id_token")
	}
	write(w, http.StatusOK, out)
}

// Pipeline gives an ID token as a provider of pipelines does: for an audience that whoever
// asks names, with claims of the work that is under way. It is good for five minutes, or what
// a fault makes of it.
func (p *Provider) Pipeline(audience string, claims map[string]any) (string, error) {
	p.mu.Lock()
	fault := p.fault
	p.fault = ""
	p.mu.Unlock()
	key := p.key()
	all := map[string]any{
		"iss": p.Issuer,
		"aud": audience,
		"sub": "work",
		"iat": time.Now().Unix(),
		"exp": time.Now().Add(5 * time.Minute).Unix(),
		"jti": rand.Text(),
	}
	maps.Copy(all, claims)
	switch fault {
	case OtherIssuer:
		all["iss"] = "https://elsewhere.example"
	case Ended:
		all["exp"] = time.Now().Add(-time.Hour).Unix()
	case OtherKey:
		key = newKey()
	}
	return signed(all, key, fault == Unsigned)
}

func signed(claims map[string]any, key *rsa.PrivateKey, unsigned bool) (string, error) {
	if unsigned {
		body, err := json.Marshal(claims)
		e := base64.RawURLEncoding
		return e.EncodeToString([]byte(`{"alg":"none","kid":"tide"}`)) + "." + e.EncodeToString(body) + ".", err
	}
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: key, KeyID: "tide"}},
		nil)
	if err != nil {
		return "", err
	}
	return jwt.Signed(signer).Claims(claims).Serialize()
}

// device gives a terminal the code that somebody enters elsewhere.
func (p *Provider) device(w http.ResponseWriter, r *http.Request) {
	client, ok := p.isClient(r)
	if !ok {
		write(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
		return
	}
	code, text := rand.Text(), rand.Text()
	user := text[:4] + "-" + text[4:8]
	p.mu.Lock()
	p.devices[code] = &device{client: client, userCode: user, until: time.Now().Add(5 * time.Minute)}
	at := p.Issuer + "/enter"
	if p.fault == Script {
		p.fault, at = "", "javascript:alert(document.cookie)//"
	}
	p.mu.Unlock()
	write(w, http.StatusOK, map[string]any{
		"device_code":               code,
		"user_code":                 user,
		"verification_uri":          at,
		"verification_uri_complete": at + "?user_code=" + user,
		"expires_in":                300,
		"interval":                  max(int(p.Interval/time.Second), 1),
	})
}

func (p *Provider) enter(w http.ResponseWriter, r *http.Request) {
	page.Execute(w, shown{
		Says:   "Enter the code that the terminal shows, and say who you are.",
		Code:   true,
		Value:  r.URL.Query().Get("user_code"),
		People: p.people(),
	})
}

func (p *Provider) entered(w http.ResponseWriter, r *http.Request) {
	who := p.named(r.FormValue("person"))
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range p.devices {
		if d.userCode == strings.ToUpper(strings.TrimSpace(r.FormValue("user_code"))) && d.person == nil && !d.refused {
			d.person, d.refused = who, who == nil
			page.Execute(w, shown{Says: "Go back to the terminal."})
			return
		}
	}
	http.Error(w, "no terminal waits for this code", http.StatusNotFound)
}
