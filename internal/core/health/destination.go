package health

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"
)

// Target is the host and the port that a check asks; nothing where they are not known.
func (c Check) Target() (host string, port int64) {
	if text, ok := c.Spec["url"].(string); ok {
		u, err := url.Parse(text)
		if err != nil {
			return "", 0
		}
		if n, err := strconv.ParseInt(u.Port(), 10, 64); err == nil {
			return u.Hostname(), n
		}
		return u.Hostname(), map[string]int64{"http": 80, "https": 443}[u.Scheme]
	}
	host, _ = c.Spec["host"].(string)
	if n, ok := c.Spec["port"].(int64); ok {
		return host, n
	}
	return host, Kinds[c.Kind].Port
}

// Destination says in words where a check goes, and what shows that it is there.
func (c Check) Destination() string {
	if k, ok := Kinds[c.Kind]; ok {
		return k.Goes(c.Spec)
	}
	return c.Kind
}

// page is the host of a URL alone: what follows it may be made with a secret.
func page(spec map[string]any) string {
	scheme, host, _ := strings.Cut(fmt.Sprint(spec["url"]), "://")
	if i := strings.IndexAny(host, "/?#"); i >= 0 {
		host = host[:i]
	}
	if i := strings.LastIndexByte(host, '@'); i >= 0 {
		host = host[i+1:]
	}
	switch {
	case scheme != "https":
		return host + " by " + scheme + ", in the clear" + jump(spec)
	case spec["trust"] == "any":
		return host + " by https, whatever certificate it shows" + jump(spec)
	}
	return host + " by https, by a certificate that the system trusts" + jump(spec)
}

func database(spec map[string]any) string {
	trust, _ := spec["trust"].(string)
	how := map[string]string{
		"":       "in the clear",
		"none":   "in the clear",
		"any":    "whatever certificate it shows",
		"system": "by a certificate that the system trusts",
	}[trust]
	return fmt.Sprintf("database %v at %s, %s%s", spec["name"], at(spec, "host", DatabasePort), how, jump(spec))
}

func connection(spec map[string]any) string { return at(spec, "host", 0) + jump(spec) }

func nameServer(spec map[string]any) string {
	return fmt.Sprintf("name server %v%s", spec["server"], jump(spec))
}

func cloudItself(map[string]any) string { return "tells" }

// Login says how the machine is signed in to whose address stands in a field.
func Login(spec map[string]any, field string) string {
	shows := "by the host key that the cloud told"
	if spec["host_key"] != nil {
		shows = "by the host key that the template names"
	}
	return fmt.Sprintf("SSH to %v at %s, %s%s", spec["user"], at(spec, field, SSHPort), shows, jump(spec))
}

// at is the address in a field with the port that is asked there; 0 is known of none.
func at(spec map[string]any, host string, port int64) string {
	out := fmt.Sprint(spec[host])
	switch p := spec["port"]; {
	case p != nil:
		return fmt.Sprintf("%s:%v", out, p)
	case port != 0:
		return fmt.Sprintf("%s:%d", out, port)
	}
	return out
}

// jump names the host through which something is reached.
func jump(spec map[string]any) string {
	if by, ok := spec["through"].(map[string]any); ok {
		return ", through " + fmt.Sprint(by["user"]) + " at " + at(by, "host", SSHPort)
	}
	return ""
}

func login(spec map[string]any) string { return Login(spec, "host") }
