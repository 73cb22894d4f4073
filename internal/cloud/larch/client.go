// Package larch is the adapter to the cloud Larch: REST with client-named
// resources, OAuth 2 client credentials, operations to poll. The name of a
// resource in Larch is the token under which it was asked for.
package larch

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"undersail/internal/cloud"
)

// Kind is what is to be known of Larch to add an account.
var Kind = cloud.Kind{Name: "larch", Title: "Larch",
	Endpoint: cloud.CredentialField{Name: "endpoint", Label: "Endpoint", Note: "URL of the cloud's API"},
	Credentials: []cloud.CredentialField{
		{Name: "client_id", Label: "Client id"},
		{Name: "client_secret", Label: "Client secret", Secret: true},
	},
}

// Open makes an adapter with credentials by their names. It calls nothing; the error says what is
// missing.
func Open(endpoint string, fields map[string]string, client *http.Client) (cloud.Adapter, error) {
	c := Credentials{ClientID: fields["client_id"], ClientSecret: fields["client_secret"]}
	if c.ClientID == "" || c.ClientSecret == "" {
		return nil, errors.New("credentials of larch need client_id and client_secret")
	}
	return New(endpoint, c, client), nil
}

// Credentials sign in to an account.
type Credentials struct {
	ClientID     string `json:"client_id"`
	ClientSecret string `json:"client_secret"`
}

// Adapter is one account of Larch.
type Adapter struct {
	endpoint string
	creds    Credentials
	http     *http.Client

	mu    sync.Mutex
	token string
	until time.Time
}

// New makes an adapter for an endpoint such as https://larch.example. It calls nothing.
func New(endpoint string, creds Credentials, client *http.Client) *Adapter {
	return &Adapter{endpoint: strings.TrimSuffix(endpoint, "/"), creds: creds, http: client}
}

var _ cloud.Adapter = (*Adapter)(nil)

// signedIn returns a token that is good for at least another 20 seconds.
func (a *Adapter) signedIn(ctx context.Context) (string, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.token != "" && time.Until(a.until) > 20*time.Second {
		return a.token, nil
	}
	form := url.Values{"grant_type": {"client_credentials"}}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, a.endpoint+"/sign-in/token",
		strings.NewReader(form.Encode()))
	if err != nil {
		return "", err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.SetBasicAuth(url.QueryEscape(a.creds.ClientID), url.QueryEscape(a.creds.ClientSecret))
	res, err := a.http.Do(req)
	if err != nil {
		return "", cloud.Unanswered("Larch", http.MethodGet, err)
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusTooManyRequests {
		return "", refusal(res)
	}
	if res.StatusCode == http.StatusUnauthorized {
		return "", &cloud.Error{
			Class:   cloud.SignIn,
			Message: "Larch does not accept the account's credentials",
			Remedy:  "renew the credentials of the account",
		}
	}
	var got struct {
		AccessToken string `json:"access_token"`
		ExpiresIn   int    `json:"expires_in"`
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<16)).Decode(&got); err != nil || got.AccessToken == "" {
		return "", &cloud.Error{
			Class:   cloud.Transient,
			Message: fmt.Sprintf("signing in answered %s without a token", res.Status),
		}
	}
	a.token, a.until = got.AccessToken, time.Now().Add(time.Duration(got.ExpiresIn)*time.Second)
	return a.token, nil
}

// forget drops a token that was refused.
func (a *Adapter) forget(token string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.token == token {
		a.token = ""
	}
}

// do makes one call and reads its JSON answer. A refused token is replaced once.
func (a *Adapter) do(ctx context.Context, method, path string, in, out any) (http.Header, error) {
	for again := true; ; again = false {
		token, err := a.signedIn(ctx)
		if err != nil {
			return nil, err
		}
		header, err := a.once(ctx, token, method, path, in, out)
		if again && cloud.ClassOf(err) == cloud.SignIn {
			a.forget(token)
			continue
		}
		return header, err
	}
}

func (a *Adapter) once(ctx context.Context, token, method, path string, in, out any) (http.Header, error) {
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, fmt.Errorf("encode request: %w", err)
		}
		body = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, a.endpoint+path, body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+token)
	if d, ok := in.(document); ok {
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("Larch-Label", d.Label)
		if d.version != "" {
			req.Header.Set("If-Match", d.version)
		}
	}
	res, err := a.http.Do(req)
	if err != nil {
		return nil, cloud.Unanswered("Larch", method, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 400 {
		return nil, refusal(res)
	}
	if out == nil {
		return res.Header, nil
	}
	if err := json.NewDecoder(io.LimitReader(res.Body, 64<<20)).Decode(out); err != nil {
		return nil, cloud.Unanswered("Larch", method, err)
	}
	return res.Header, nil
}

// problem is what Larch says when it refuses (RFC 9457).
type problem struct {
	Type       string   `json:"type"`
	Title      string   `json:"title"`
	Property   string   `json:"property"`
	Quota      string   `json:"quota"`
	Short      int64    `json:"short"`
	Zones      []string `json:"zones"`
	Permission string   `json:"permission"`
}

func refusal(res *http.Response) error {
	var p problem
	if err := json.NewDecoder(io.LimitReader(res.Body, 1<<16)).Decode(&p); err != nil || p.Title == "" {
		p.Title = "Larch answered " + res.Status
	}
	e := &cloud.Error{Message: p.Title, Property: neutralNames[p.Property], Missing: p.Short, Zones: p.Zones}
	switch strings.TrimPrefix(p.Type, "urn:larch:") {
	case "throttled":
		e.Class, e.RetryAfter = cloud.Throttled, time.Second
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil {
			e.RetryAfter = time.Duration(s) * time.Second
		}
	case "token":
		e.Class = cloud.SignIn
	case "gone":
		e.Class = cloud.Gone
	case "name-taken":
		e.Class, e.Remedy = cloud.Invalid, "choose another name"
	case "conflict", "busy", "not-ready":
		e.Class = cloud.Conflict
	case "in-use":
		e.Class, e.Remedy = cloud.InUse, "remove what uses it first"
	case "quota":
		e.Class, e.Remedy = cloud.Quota,
			fmt.Sprintf("ask Larch for %d more %s, or make the stack smaller", p.Short, p.Quota)
	case "capacity":
		e.Class, e.Remedy = cloud.Capacity, "choose another zone"
		if len(p.Zones) > 0 {
			e.Remedy = "choose one of the zones " + strings.Join(p.Zones, ", ")
		}
	case "denied":
		e.Class, e.Remedy = cloud.Denied, "give the account the permission "+p.Permission
	case "invalid", "fixed", "overlap", "not-sold", "malformed", "no-kind", "no-region":
		e.Class, e.Remedy = cloud.Invalid, "correct the inputs and propose again"
	default:
		e.Class = cloud.Transient
		switch {
		case res.StatusCode < 500:
			e.Class = cloud.Invalid
		case res.StatusCode != http.StatusServiceUnavailable && res.Request.Method != http.MethodGet:
			e.Class = cloud.UnknownOutcome // something between here and there broke, perhaps after it was done
		}
	}
	return e
}
