package guest

import (
	"crypto/subtle"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"path"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// web answers for a service over HTTP.
func (g *Guest) web(s *service) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		have, all := g.warm(s, time.Now())
		w.Header().Set("Server", s.name+"/"+s.software.Version)
		switch {
		case s.software.Page == "files":
			g.file(w, r)
		case s.software.Page == "sign-in":
			g.board(w, r)
		case s.software.Page == "set-up":
			g.firstStart(w, r, s)
		case r.URL.Path != "/ready" && r.URL.Path != "/":
			http.Error(w, "nothing here", http.StatusNotFound)
		case have < all:
			http.Error(w, fmt.Sprintf("warming up (%d of %d feeds)", have, all), http.StatusServiceUnavailable)
		default:
			w.Header().Set("Content-Type", "application/json")
			json.NewEncoder(w).Encode(map[string]any{
				"service": s.name,
				"version": s.software.Version,
				"feeds":   all,
				"host":    g.Label,
			})
		}
	})
}

const webRoot = "/var/www/html"

func (g *Guest) file(w http.ResponseWriter, r *http.Request) {
	at := path.Join(webRoot, path.Clean("/"+r.URL.Path))
	if at == webRoot {
		at = webRoot + "/index.html"
	}
	content, ok := g.read(at)
	switch {
	case ok && strings.HasSuffix(at, ".html"):
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		io.WriteString(w, content)
	case ok:
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		io.WriteString(w, content)
	case at == webRoot+"/index.html":
		fmt.Fprintf(w, "<!doctype html><title>%s</title><p>%s serves pages from %s", html.EscapeString(g.Label),
			html.EscapeString(g.Label), webRoot)
	default:
		http.NotFound(w, r)
	}
}

func (g *Guest) serveSSH(l net.Listener) {
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-TideShell_3",
		PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			for _, known := range g.users[c.User()] {
				if string(known.Marshal()) == string(key.Marshal()) {
					return nil, nil
				}
			}
			return nil, fmt.Errorf("key is not authorized for %s", c.User())
		},
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if known := g.secretOf(c.User()); known != "" && subtle.ConstantTimeCompare([]byte(known), password) == 1 {
				return nil, nil
			}
			return nil, fmt.Errorf("the password of %s is not right", c.User())
		},
	}
	config.AddHostKey(g.HostKey)
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go g.session(c, config)
	}
}

func (g *Guest) session(c net.Conn, config *ssh.ServerConfig) {
	c.SetDeadline(time.Now().Add(15 * time.Second))
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		c.Close()
		return
	}
	c.SetDeadline(time.Now().Add(10 * time.Minute))
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for nc := range channels {
		switch nc.ChannelType() {
		case "session":
			go g.commands(nc, conn.User())
		case "direct-tcpip":
			go g.jump(nc)
		default:
			nc.Reject(ssh.UnknownChannelType, "not offered")
		}
	}
}

// jump carries a connection into the private network.
func (g *Guest) jump(nc ssh.NewChannel) {
	var to struct {
		Host       string
		Port       uint32
		OriginHost string
		OriginPort uint32
	}
	if err := ssh.Unmarshal(nc.ExtraData(), &to); err != nil {
		nc.Reject(ssh.ConnectionFailed, "malformed request")
		return
	}
	inside, err := g.fabric.dial(g, to.Host, int(to.Port))
	if err != nil {
		nc.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	channel, requests, err := nc.Accept()
	if err != nil {
		inside.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	go func() { io.Copy(channel, inside); channel.CloseWrite(); channel.Close() }()
	io.Copy(inside, channel)
	inside.Close()
}

func (g *Guest) commands(nc ssh.NewChannel, user string) {
	channel, requests, err := nc.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	if g.Leased != nil { // what the cloud shows as done, the machine knows too
		g.Renew(g.Leased())
	}
	terminal := false
	for req := range requests {
		switch req.Type {
		case "pty-req":
			terminal = true
			req.Reply(true, nil)
		case "subsystem":
			var wanted struct{ Name string }
			ssh.Unmarshal(req.Payload, &wanted)
			req.Reply(wanted.Name == "sftp", nil)
			if wanted.Name == "sftp" {
				go ssh.DiscardRequests(requests)
				g.takeFiles(channel)
				return
			}
		case "exec":
			var line struct{ Command string }
			ssh.Unmarshal(req.Payload, &line)
			req.Reply(true, nil)
			go ssh.DiscardRequests(requests)
			code := g.script(g.alive, user, line.Command, channel, channel, channel.Stderr())
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(code)}))
			return
		case "shell":
			req.Reply(true, nil)
			go ssh.DiscardRequests(requests) // the size of the window changes
			g.shell(user, channel, terminal)
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
			return
		default:
			req.Reply(req.Type == "env", nil)
		}
	}
}
