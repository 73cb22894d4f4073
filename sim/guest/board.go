package guest

import (
	"crypto/subtle"
	"fmt"
	"html"
	"net/http"
	"strings"
)

// boardSettings is the file in which a board finds who may sign in.
const boardSettings = "/etc/tide-board.conf"

// board is a page that wants a sign-in. Its settings are lines such as `user duty` and
// `password ...`; without a password nobody gets in.
func (g *Guest) board(w http.ResponseWriter, r *http.Request) {
	settings := map[string]string{}
	content, _ := g.read(boardSettings)
	for line := range strings.Lines(content) {
		key, value, _ := strings.Cut(strings.TrimRight(line, "\r\n"), " ")
		settings[key] = value
	}
	user, password, given := r.BasicAuth()
	if r.Method == http.MethodPost {
		user, password, given = r.PostFormValue("user"), r.PostFormValue("password"), true
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	switch {
	case !given:
		fmt.Fprint(w, `<!doctype html><title>Duty board</title><h1>Duty board</h1><form method="post" action="/sign-in"><label>Name <input name="user"></label>
<label>Password <input name="password" type="password"></label><button>Sign in</button></form>`)
	case settings["password"] != "" && user == settings["user"] && subtle.ConstantTimeCompare([]byte(password), []byte(settings["password"])) == 1:
		fmt.Fprintf(w, "<!doctype html><title>Duty board</title><h1>Duty board</h1><p>signed in as %s", html.EscapeString(user))
	default:
		w.WriteHeader(http.StatusUnauthorized)
		fmt.Fprint(w, "<!doctype html><title>Duty board</title><p>the name or the password is not right")
	}
}
