package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"undersail/internal/people"
	"undersail/internal/refusal"
	"undersail/internal/request"
)

// Limits of one request.
const (
	// maxBody bounds a request's body; templates are at most 1 MiB.
	maxBody = 4 << 20
	// maxOpenBody bounds the body of whoever has not signed in.
	maxOpenBody = 16 << 10
	// bodyPatience is how long a body may take to arrive, writePatience how long a peer may
	// take to read a piece of the answer.
	bodyPatience  = 15 * time.Second
	writePatience = 20 * time.Second
)

// bodyKey is where the body of a request is, once it was read; it is not to be altered.
const bodyKey = "body"

func bodyOf(c *echo.Context) []byte {
	body, _ := c.Get(bodyKey).([]byte)
	return body
}

// guarded puts everything below /api/v1 behind sign-in, the limits of what one person may
// have in work, the body limit and the contract. Nothing of a body is read for strangers.
func (s *Server) guarded(next echo.HandlerFunc) echo.HandlerFunc {
	inside := s.signedIn(s.inWork(s.limited(s.validated(s.once(next)))))
	return func(c *echo.Context) error {
		if !strings.HasPrefix(c.Request().URL.Path, "/api/v1/") {
			if unread(c); c.Request().Method != http.MethodGet && c.Request().Method != http.MethodHead {
				return echo.ErrMethodNotAllowed
			}
			return s.visiting(next)(c)
		}
		err := inside(c)
		if _, read := c.Get(bodyKey).([]byte); err != nil && !read {
			unread(c)
		}
		return err
	}
}

// secure says that people reach the service by TLS.
func (s *Server) secure() bool { return s.URL.Scheme == "https" }

// headers are the usual ones that keep a browser from doing more than it should.
func (s *Server) headers(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Permissions-Policy", "camera=(), geolocation=(), microphone=(), payment=(), usb=()")
		h.Set("Content-Security-Policy", policyWith(""))
		if s.secure() {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if strings.HasPrefix(c.Request().URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		ctl := http.NewResponseController(c.Response())
		ctl.SetWriteDeadline(time.Time{}) // that of an answer before on the same connection
		c.SetResponse(&timely{c.Response(), ctl})
		return next(c)
	}
}

// timely gives up on a peer that does not read its answer.
type timely struct {
	http.ResponseWriter
	ctl *http.ResponseController
}

func (t *timely) Unwrap() http.ResponseWriter { return t.ResponseWriter }

func (t *timely) Write(b []byte) (int, error) {
	t.ctl.SetWriteDeadline(time.Now().Add(writePatience))
	return t.ResponseWriter.Write(b)
}

// policyWith is the content security policy of an answer. A page has a nonce for the
// styles that its scripts insert; nothing else may be inline.
func policyWith(nonce string) string {
	styles := "'self'"
	if nonce != "" {
		styles += " 'nonce-" + nonce + "'"
	}
	return "default-src 'none'; script-src 'self'; worker-src 'self'; connect-src 'self'; font-src 'self'; " +
		"manifest-src 'self'; img-src 'self' data:; style-src " + styles +
		"; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"
}

// ours answers only under the names that the service has, and to no page of another site: a
// name that somebody else lets point here, or a page of theirs, gets nothing.
func (s *Server) ours(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		if !s.isOurs(r, r.Host) {
			return &statusError{http.StatusMisdirectedRequest,
				&refusal.Error{
					Kind:   refusal.Forbidden,
					Title:  fmt.Sprintf("this service has not the name %.100q", r.Host),
					Remedy: "use the address that serve was given with --url",
				}}
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			origin := r.Header.Get("Origin")
			at, err := url.Parse(origin)
			if origin != "" && (err != nil || at.Scheme != s.URL.Scheme || !s.isOurs(r, at.Host)) ||
				r.Header.Get("Sec-Fetch-Site") == "cross-site" {
				return &refusal.Error{
					Kind:   refusal.Forbidden,
					Title:  "a page of another site asks",
					Remedy: "use the service's own console",
				}
			}
		}
		return next(c)
	}
}

// isOurs reports whether a host is the one of the URL, or the address that the request came
// to: a bare address cannot be somebody else's name for it.
func (s *Server) isOurs(r *http.Request, host string) bool {
	if strings.EqualFold(host, s.URL.Host) {
		return true
	}
	local, ok := r.Context().Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return false
	}
	at, err := netip.ParseAddrPort(local.String())
	if err != nil {
		return false
	}
	name, port, err := net.SplitHostPort(host)
	if err != nil {
		name, port = strings.Trim(host, "[]"), map[bool]string{true: "443", false: "80"}[s.secure()]
	}
	if port != fmt.Sprint(at.Port()) {
		return false
	}
	literal, err := netip.ParseAddr(name)
	return err == nil && literal.Unmap() == at.Addr().Unmap() || name == "localhost" && at.Addr().Unmap().IsLoopback()
}

// limited reads the body once, up to the limit, from a peer that sends it in time.
func (s *Server) limited(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		most := int64(maxBody)
		if userOf(r.Context()).Name == "" {
			most = maxOpenBody
		}
		if r.ContentLength > most {
			return tooLarge(most)
		}
		leave, err := s.hold(r)
		if err != nil {
			return err
		}
		defer leave()
		ctl := http.NewResponseController(c.Response())
		ctl.SetReadDeadline(time.Now().Add(bodyPatience))
		var whole bytes.Buffer
		whole.Grow(int(max(r.ContentLength, 0)) + bytes.MinRead) // so that it is read in place
		_, err = whole.ReadFrom(http.MaxBytesReader(c.Response(), r.Body, most))
		body := whole.Bytes()
		var large *http.MaxBytesError
		if errors.As(err, &large) {
			return tooLarge(most)
		}
		if err != nil {
			return &refusal.Error{
				Kind:   refusal.Invalid,
				Title:  "the body ended too early, or took too long",
				Remedy: "send it again",
			}
		}
		if strings.ContainsRune(r.URL.Path+r.URL.RawQuery, 0) || bytes.Contains(body, []byte(`\u0000`)) ||
			bytes.IndexByte(body, 0) >= 0 {
			return &refusal.Error{Kind: refusal.Invalid, Title: "a text holds the character zero", Remedy: "remove it"}
		}
		ctl.SetReadDeadline(time.Time{})
		c.Set(bodyKey, body)
		r.Body = io.NopCloser(bytes.NewReader(body))
		return next(c)
	}
}

// unread leaves a peer whose body nobody read: it is answered, and what it still sends is
// waited for no longer than a moment.
func unread(c *echo.Context) {
	if r := c.Request(); r.ContentLength == 0 || r.Body == nil || r.Body == http.NoBody {
		return
	}
	c.Response().Header().Set("Connection", "close")
	http.NewResponseController(c.Response()).SetReadDeadline(time.Now().Add(time.Second))
}

func tooLarge(most int64) error {
	return &statusError{http.StatusRequestEntityTooLarge,
		&refusal.Error{Kind: refusal.Invalid, Title: fmt.Sprintf("the body is larger than %d KiB", most>>10),
			Remedy: "templates have at most 1 MiB; send large files another way"}}
}

// asker is who asks, and from where.
type asker struct {
	user    people.User
	token   string
	address string
	device  string
	console bool                // a browser asks: what it reads by itself keeps no session alive
	answer  http.ResponseWriter // for cookies, which the contract's answers do not hold
}

// from is where a try to sign in comes from.
func (a asker) from(terminal bool) people.From {
	return people.From{Address: a.address, Device: a.device, Terminal: terminal}
}

type askerKey struct{}

func askerOf(ctx context.Context) asker {
	a, _ := ctx.Value(askerKey{}).(asker)
	return a
}

func userOf(ctx context.Context) people.User { return askerOf(ctx).user }

// signedIn finds who asks. A session cookie counts for changes only together with a header
// that no other site can make a browser send, and not at all beside an Authorization header.
func (s *Server) signedIn(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r := c.Request()
		who := asker{address: s.addressOf(r), answer: c.Response()}
		if cookie, err := r.Cookie(s.cookieName("device")); err == nil {
			who.device = cookie.Value
		}
		if !s.open[r.Method+" "+r.URL.Path] {
			var byCookie bool
			who.token, byCookie = s.tokenOf(r)
			if who.token == "" {
				return &refusal.Error{
					Kind:   refusal.Unauthenticated,
					Title:  "the request carries no token",
					Remedy: "sign in, or run: undersail login",
				}
			}
			if byCookie && r.Method != http.MethodGet && r.Method != http.MethodHead &&
				r.Header.Get("X-Undersail-Console") == "" {
				return &refusal.Error{
					Kind:   refusal.Forbidden,
					Title:  "a change with a session needs the header X-Undersail-Console",
					Remedy: "use the console, or a bearer token",
				}
			}
			var err error
			who.console = byCookie
			attended := !byCookie || r.Header.Get("X-Undersail-Unattended") == "" && !isStream(r)
			if who.user, err = s.service.People.ByToken(r.Context(), who.token, who.address, attended); err != nil {
				return err
			}
		}
		c.SetRequest(r.WithContext(context.WithValue(request.As(r.Context(), who.user), askerKey{}, who)))
		return next(c)
	}
}

// tokenOf is the token that a request carries. Whoever sends an Authorization header means
// it: then the cookie, which a browser adds by itself, is not looked at.
func (s *Server) tokenOf(r *http.Request) (token string, byCookie bool) {
	if _, there := r.Header["Authorization"]; there {
		scheme, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return "", false
		}
		return strings.TrimSpace(token), false
	}
	if cookie, err := r.Cookie(s.cookieName("session")); err == nil {
		return cookie.Value, true
	}
	return "", true
}

// addressOf is where a request came from: behind a proxy that we were told of, the last
// address that it tells and that is no such proxy.
func (s *Server) addressOf(r *http.Request) string {
	peer, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	address := peer.Addr().Unmap()
	told := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(told) - 1; i >= 0 && s.isProxy(address); i-- {
		next, err := netip.ParseAddr(strings.TrimSpace(told[i]))
		if err != nil {
			break
		}
		address = next.Unmap()
	}
	return address.String()
}

func (s *Server) isProxy(a netip.Addr) bool {
	return slices.ContainsFunc(s.Proxies, func(p netip.Prefix) bool { return p.Contains(a) })
}

// cookieName is that of the session or the device. By TLS the browser is told to take it
// from this host alone.
func (s *Server) cookieName(what string) string {
	if s.secure() {
		return "__Host-undersail_" + what
	}
	return "undersail_" + what
}

// deviceLife is how long a browser is known by.
const deviceLife = 180 * 24 * time.Hour

func (s *Server) setCookie(w http.ResponseWriter, what, value string, life time.Duration, mode http.SameSite) {
	c := http.Cookie{
		Name:     s.cookieName(what),
		Value:    value,
		Path:     "/",
		HttpOnly: true,
		Secure:   s.secure(),
		SameSite: mode,
		MaxAge:   int(life.Seconds()),
	}
	if life < 0 {
		c.MaxAge = -1
	}
	http.SetCookie(w, &c)
}

// signIn lets the browser carry a session, and be known again.
func (s *Server) signIn(w http.ResponseWriter, session people.Session) {
	s.setCookie(w, "session", session.Token, session.Life, http.SameSiteStrictMode)
	if session.Device != "" {
		s.setCookie(w, "device", session.Device, deviceLife, http.SameSiteStrictMode)
	}
}
