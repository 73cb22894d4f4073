package guest

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"html"
	"net/http"
	"strings"
	"time"
)

// boardSettings is the file in which a board finds who may sign in: lines such as `user
// duty` and `password ...`, and boardUsers has more of them as `NAME PASSWORD`.
const (
	boardSettings = "/etc/tide-board.conf"
	boardUsers    = "/etc/tide-board.users"
	cookieName    = "tide-session"
)

// who reads who may sign in.
func (g *Guest) who() map[string]string {
	settings, users := map[string]string{}, map[string]string{}
	content, _ := g.read(boardSettings)
	for line := range strings.Lines(content) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		settings[key] = value
	}
	if settings["password"] != "" {
		users[settings["user"]] = settings["password"]
	}
	more, _ := g.read(boardUsers)
	for line := range strings.Lines(more) {
		if name, password, ok := strings.Cut(strings.TrimSpace(line), " "); ok && password != "" {
			users[name] = password
		}
	}
	return users
}

// board is a page that wants a sign-in: by its form, which gives a session, or by basic
// authentication. Without a password nobody gets in.
func (g *Guest) board(w http.ResponseWriter, r *http.Request) {
	user, password, given := r.BasicAuth()
	if r.Method == http.MethodPost {
		user, password, given = r.PostFormValue("user"), r.PostFormValue("password"), true
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	known := g.who()[user]
	switch {
	case !given && g.signedIn(r) != "":
		fmt.Fprintf(w, "<!doctype html><title>Duty board</title><h1>Duty board</h1><p>signed in as %s",
			html.EscapeString(g.signedIn(r)))
	case !given && r.URL.Path != "/" && r.URL.Path != "/sign-in":
		http.Redirect(w, r, "/sign-in", http.StatusSeeOther)
	case !given:
		fmt.Fprint(w,
			`<!doctype html><title>Duty board</title><h1>Duty board</h1><form method="post" action="/sign-in"><label>Name <input name="user"></label>
<label>Password <input name="password" type="password"></label><button>Sign in</button></form>`)
	case known != "" && !g.spoilt("sign-in") && subtle.ConstantTimeCompare([]byte(password), []byte(known)) == 1:
		http.SetCookie(w, &http.Cookie{Name: cookieName, Value: g.newSession(user), Path: "/", HttpOnly: true})
		fmt.Fprintf(w, "<!doctype html><title>Duty board</title><h1>Duty board</h1><p>signed in as %s",
			html.EscapeString(user))
	default:
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, "<!doctype html><title>Duty board</title><p>the name or the password is not right")
	}
}

// newSession begins a session of somebody.
func (g *Guest) newSession(user string) string {
	raw := make([]byte, 16)
	rand.Read(raw)
	g.mu.Lock()
	defer g.mu.Unlock()
	g.sessions[hex.EncodeToString(raw)] = user
	return hex.EncodeToString(raw)
}

// signedIn is whose session a request belongs to, or nothing.
func (g *Guest) signedIn(r *http.Request) string {
	c, err := r.Cookie(cookieName)
	if err != nil {
		return ""
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.sessions[c.Value]
}

// firstStart is a page that is open to anybody until somebody sets it up; from then on,
// over restarts of the service too, it is a board.
func (g *Guest) firstStart(w http.ResponseWriter, r *http.Request, s *service) {
	if len(g.who()) > 0 {
		g.board(w, r)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	user, password := r.PostFormValue("user"), r.PostFormValue("password")
	if r.Method == http.MethodPost && r.URL.Path == "/set-up" && user != "" && len(password) >= 8 &&
		!strings.ContainsAny(user+password, " \r\n") {
		g.write(boardUsers, user+" "+password+"\n")
		fmt.Fprintf(w, "<!doctype html><title>First start</title><p>%s is set up; restarting",
			html.EscapeString(s.name))
		g.mu.Lock()
		g.restarted[s.name] = g.since(time.Now())
		g.mu.Unlock()
		g.nudge()
		return
	}
	if r.Method == http.MethodPost {
		w.WriteHeader(http.StatusUnprocessableEntity)
	}
	fmt.Fprintf(w,
		`<!doctype html><title>First start</title><h1>First start of %s</h1><p>Nobody has set it up yet.<form method="post" action="/set-up">
<label>Name <input name="user"></label> <label>Password of 8 letters or more <input name="password" type="password"></label><button>Set up</button></form>`, html.EscapeString(s.name))
}
