package probe

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"slices"
	"strconv"
	"strings"
)

func init() { lookers["http"] = looker{askedOf, Prober.http} }

// http asks a page: as anybody, as a user by basic authentication, or in a session that
// a form began. What is sent to sign in is told by its names alone.
func (p Prober) http(ctx context.Context, spec map[string]any) (string, answer) {
	r, err := p.route(ctx, spec)
	asked := askedOf(spec) + r.words
	if err != nil {
		return asked, none(reason(err))
	}
	defer r.close()
	transport := &http.Transport{DialContext: r.dial, DisableKeepAlives: true,
		TLSClientConfig: &tls.Config{InsecureSkipVerify: textOf(spec, "trust") == "any", MinVersion: tls.VersionTLS12}}
	client := &http.Client{
		Transport:     transport,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}
	if form, ok := spec["sign_in"].(map[string]any); ok {
		if client.Jar, err = cookiejar.New(nil); err != nil {
			return asked, none(reason(err))
		}
		if words := signedIn(ctx, client, form); words != "" {
			return asked, none(words)
		}
	}
	req, err := request(ctx, spec)
	if err != nil {
		return asked, none("that is no URL")
	}
	res, err := client.Do(req)
	if err != nil {
		return asked, none(reason(err))
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(res.Body, readLimit))
	passed := int64(res.StatusCode) == number(spec, "status", 200) &&
		strings.Contains(string(body), textOf(spec, "contains"))
	a := answer{words: strconv.Itoa(res.StatusCode), said: &said{string(body), len(body) == readLimit}, passed: passed}
	if res.TLS != nil && len(res.TLS.PeerCertificates) > 0 {
		a.end = "(certificate SHA-256 " + fingerprint(res.TLS.PeerCertificates[0].Raw) + ")"
	}
	return asked, a
}

// askedOf says what a check over HTTP asks.
func askedOf(spec map[string]any) string {
	asked := cmp.Or(textOf(spec, "method"), http.MethodGet) + " " + textOf(spec, "url")
	if user := textOf(spec, "user"); user != "" {
		asked += " as " + user
	}
	if form, ok := spec["sign_in"].(map[string]any); ok {
		asked += " signed in at " + textOf(form, "url") + " by " +
			strings.Join(slices.Sorted(maps.Keys(texts(form, "form"))), ", ")
	}
	return asked
}

// texts is a mapping of names to texts.
func texts(spec map[string]any, key string) map[string]string {
	out := map[string]string{}
	fields, _ := spec[key].(map[string]any)
	for name, v := range fields {
		out[name] = fmt.Sprint(v)
	}
	return out
}

func request(ctx context.Context, spec map[string]any) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, cmp.Or(textOf(spec, "method"), http.MethodGet), textOf(spec, "url"),
		strings.NewReader(textOf(spec, "body")))
	if err != nil {
		return nil, fmt.Errorf("writing the request: %w", err)
	}
	req.Header.Set("User-Agent", "undersail-probe")
	for name, value := range texts(spec, "headers") {
		req.Header.Set(name, value)
	}
	if user := textOf(spec, "user"); user != "" {
		req.SetBasicAuth(user, textOf(spec, "password"))
	}
	return req, nil
}

// signedIn sends a form and keeps the session that comes back; it says why there is none.
func signedIn(ctx context.Context, client *http.Client, form map[string]any) string {
	values := url.Values{}
	for name, value := range texts(form, "form") {
		values.Set(name, value)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, textOf(form, "url"),
		strings.NewReader(values.Encode()))
	if err != nil {
		return "the URL to sign in at is none"
	}
	req.Header.Set("User-Agent", "undersail-probe")
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := client.Do(req)
	if err != nil {
		return "signing in: " + reason(err)
	}
	defer res.Body.Close()
	io.Copy(io.Discard, io.LimitReader(res.Body, readLimit))
	if res.StatusCode >= 400 {
		return fmt.Sprintf("not signed in: the form was answered %d", res.StatusCode)
	}
	if len(client.Jar.Cookies(req.URL)) == 0 {
		return fmt.Sprintf("not signed in: the form was answered %d without a session", res.StatusCode)
	}
	return ""
}

// fingerprint writes the SHA-256 of a certificate as browsers show it.
func fingerprint(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	return strings.ReplaceAll(strings.ToUpper(fmt.Sprintf("% x", sum[:])), " ", ":")
}
