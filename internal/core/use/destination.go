package use

import (
	"fmt"
	"strings"
)

// destination says in words where a check goes, and what shows that it is there.
func destination(kind string, spec map[string]any) string {
	trust, _ := spec["trust"].(string)
	switch kind {
	case "http":
		url := fmt.Sprint(spec["url"])
		scheme, rest, _ := strings.Cut(url, "://")
		host := rest
		if i := strings.IndexAny(host, "/?#"); i >= 0 {
			host = host[:i]
		}
		if i := strings.LastIndexByte(host, '@'); i >= 0 {
			host = host[i+1:]
		}
		switch {
		case scheme != "https":
			return host + " by " + scheme + ", in the clear" + through(spec)
		case trust == "any":
			return host + " by https, whatever certificate it shows" + through(spec)
		}
		return host + " by https, by a certificate that the system trusts" + through(spec)
	case "ssh":
		return way(spec, "host")
	case "database":
		how := map[string]string{
			"":       "in the clear",
			"none":   "in the clear",
			"any":    "whatever certificate it shows",
			"system": "by a certificate that the system trusts",
		}[trust]
		return fmt.Sprintf("database %v at %s, %s%s", spec["name"], at(spec, "host", "5432"), how, through(spec))
	case "tcp":
		return at(spec, "host", "") + through(spec)
	case "name":
		return fmt.Sprintf("name server %v%s", spec["server"], through(spec))
	}
	return kind
}

// way says how a machine is signed in to.
func way(spec map[string]any, host string) string {
	shows := "by the host key that the cloud told"
	if spec["host_key"] != nil {
		shows = "by the host key that the template names"
	}
	return fmt.Sprintf("SSH to %v at %s, %s%s", spec["user"], at(spec, host, "22"), shows, through(spec))
}

func at(spec map[string]any, host, port string) string {
	out := fmt.Sprint(spec[host])
	switch p := spec["port"]; {
	case p != nil:
		return fmt.Sprintf("%s:%v", out, p)
	case port != "":
		return out + ":" + port
	}
	return out
}

func through(spec map[string]any) string {
	if jump, ok := spec["through"].(map[string]any); ok {
		return ", through " + fmt.Sprint(jump["user"]) + " at " + at(jump, "host", "22")
	}
	return ""
}
