package guest

import (
	"bufio"
	"encoding/json"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/term"
)

// web answers for a service over HTTP.
func (g *Guest) web(s *service) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		have, all := g.warm(s, time.Now())
		w.Header().Set("Server", s.name+"/"+s.software.Version)
		switch {
		case s.packaged == "nginx":
			g.file(w, r)
		case s.packaged == "tide-board":
			g.board(w, r)
		case r.URL.Path != "/ready" && r.URL.Path != "/":
			http.Error(w, "nothing here", http.StatusNotFound)
		case have < all:
			http.Error(w, fmt.Sprintf("warming up (%d of %d feeds)", have, all), http.StatusServiceUnavailable)
		default:
			w.Header().Set("Content-Type", "application/json")
			json.NewEncoder(w).Encode(map[string]any{"service": s.name, "version": s.software.Version, "feeds": all, "host": g.Label})
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
		fmt.Fprintf(w, "<!doctype html><title>%s</title><p>%s serves pages from %s", html.EscapeString(g.Label), html.EscapeString(g.Label), webRoot)
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
			go g.commands(nc)
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

func (g *Guest) commands(nc ssh.NewChannel) {
	channel, requests, err := nc.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
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
			out, code := g.command(line.Command)
			io.WriteString(channel, out)
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(code)}))
			return
		case "shell":
			req.Reply(true, nil)
			go ssh.DiscardRequests(requests) // the size of the window changes
			g.shell(channel, terminal)
			channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{0}))
			return
		default:
			req.Reply(req.Type == "env", nil)
		}
	}
}

// shell answers commands line by line. On a terminal it echoes and lets lines be edited.
func (g *Guest) shell(rw io.ReadWriter, terminal bool) {
	if terminal {
		t := term.NewTerminal(rw, g.Label+"$ ")
		for {
			line, err := t.ReadLine()
			if err != nil || strings.TrimSpace(line) == "exit" {
				return
			}
			out, _ := g.command(strings.TrimSpace(line))
			io.WriteString(t, out)
		}
	}
	lines := bufio.NewScanner(rw)
	for fmt.Fprintf(rw, "%s$ ", g.Label); lines.Scan(); fmt.Fprintf(rw, "%s$ ", g.Label) {
		line := strings.TrimSpace(lines.Text())
		if line == "exit" {
			return
		}
		out, _ := g.command(line)
		io.WriteString(rw, out)
	}
}

// command answers the usual questions from the guest's state.
func (g *Guest) command(line string) (string, int) {
	args := strings.Fields(line)
	if len(args) == 0 {
		return "", 0
	}
	rest := args[1:]
	last := ""
	if len(rest) > 0 {
		last = rest[len(rest)-1]
	}
	now := time.Now()
	switch args[0] {
	case "systemctl":
		return g.systemctl(last, now)
	case "cloud-init":
		if g.Initialised(now) {
			return "status: done\n", 0
		}
		return "status: running\n", 0
	case "nproc":
		return strconv.FormatInt(g.VCPUs, 10) + "\n", 0
	case "free":
		return fmt.Sprintf("               total\nMem:  %14d\n", g.MemoryBytes), 0
	case "hostname":
		return g.Label + "\n", 0
	case "lsblk":
		var b strings.Builder
		b.WriteString("NAME SIZE MOUNTPOINT\n")
		for i, d := range g.Disks {
			fmt.Fprintf(&b, "vd%c %dG %s\n", 'b'+i, d.Bytes>>30, d.Mount)
		}
		return b.String(), 0
	case "mountpoint", "findmnt":
		if g.mounted(last) {
			return last + " is a mountpoint\n", 0
		}
		return last + " is not a mountpoint\n", 32
	case "df":
		for _, d := range g.Disks {
			if d.Mount != "" && !g.mounted(d.Mount) {
				continue // the disk failed
			}
			if d.Mount == last {
				return fmt.Sprintf("Filesystem 1K-blocks Mounted\n/dev/vdb %d %s\n", d.Bytes>>10, d.Mount), 0
			}
		}
		return "df: " + last + ": No such file or directory\n", 1
	case "cat":
		if content, ok := g.read(last); ok {
			return content, 0
		}
		return "cat: " + last + ": No such file or directory\n", 1
	case "dpkg-query", "dpkg":
		for _, s := range g.services {
			if s.packaged == last && g.since(now) >= s.after {
				return s.packaged + " " + s.software.Version + "\n", 0
			}
		}
		return "no packages found matching " + last + "\n", 1
	case "echo":
		return strings.Join(rest, " ") + "\n", 0
	case "true":
		return "", 0
	}
	return args[0] + ": command not found\n", 127
}

func (g *Guest) systemctl(name string, now time.Time) (string, int) {
	for _, s := range g.services {
		if s.name != strings.TrimSuffix(name, ".service") {
			continue
		}
		state := g.state(s, now)
		if state == "active" {
			return "active\n", 0
		}
		return state + "\n", 3
	}
	return "inactive\n", 4
}
