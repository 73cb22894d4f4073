package guest

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"strings"
	"time"
)

func cloudInit(_ context.Context, c *call) int {
	if c.guest.Initialised(time.Now()) {
		return c.say("status: done")
	}
	return c.say("status: running")
}

func packageVersion(_ context.Context, c *call) int {
	for _, s := range c.guest.all() {
		if s.packaged == c.last() && c.guest.since(time.Now()) >= s.after {
			version := s.software.Version
			if c.guest.spoilt("version") {
				version = "0.0.1"
			}
			return c.say("%s %s", s.packaged, version)
		}
	}
	return c.fail(1, "no packages found matching %s", c.last())
}

func systemctl(_ context.Context, c *call) int {
	g, name, now := c.guest, strings.TrimSuffix(c.last(), ".service"), time.Now()
	for _, s := range g.all() {
		if s.name != name {
			continue
		}
		switch c.args[0] {
		case "stop", "disable":
			g.root.change(func(x *content) { x.Off[name] = true })
		case "start", "restart", "enable", "reload":
			g.root.change(func(x *content) { delete(x.Off, name) })
			g.mu.Lock()
			g.restarted[name] = g.since(now)
			g.mu.Unlock()
		default:
			state := g.state(s, now)
			c.say("%s", state)
			if state != "active" {
				return 3
			}
			return 0
		}
		g.nudge()
		return 0
	}
	if len(c.args) > 0 && c.args[0] == "is-active" {
		c.say("inactive")
		return 4
	}
	return c.fail(4, "Unit %s.service could not be found.", name)
}

func install(ctx context.Context, c *call) int {
	names := c.names()
	if len(names) == 0 || names[0] != "install" {
		return 0 // update, upgrade
	}
	for _, name := range names[1:] {
		took, fault := c.guest.install(name)
		if fault != "" {
			return c.fail(100, "%s", fault)
		}
		c.say("Setting up %s", name)
		select {
		case <-ctx.Done():
			return 130
		case <-time.After(took):
		}
	}
	return 0
}

// passwords sets those of users, from lines NAME:PASSWORD.
func passwords(_ context.Context, c *call) int {
	raw, _ := io.ReadAll(io.LimitReader(c.in, mostFile))
	c.guest.root.change(func(x *content) {
		for line := range strings.Lines(string(raw)) {
			if name, password, ok := strings.Cut(strings.TrimRight(line, "\r\n"), ":"); ok {
				if x.Passwords == nil {
					x.Passwords = map[string]string{}
				}
				x.Passwords[name] = password
			}
		}
	})
	return 0
}

func id(_ context.Context, c *call) int {
	name := c.user
	if names := c.names(); len(names) > 0 {
		name = names[0]
	}
	if !c.guest.knowsUser(name) {
		return c.fail(1, "id: %s: no such user", name)
	}
	return c.say("uid=1000(%s)", name)
}

// getent looks a host up: getent hosts NAME.
func getent(_ context.Context, c *call) int {
	if len(c.args) != 2 || c.args[0] != "hosts" {
		return c.fail(1, "usage: getent hosts NAME")
	}
	at, err := c.guest.resolve(c.args[1])
	if err != nil {
		return 2
	}
	return c.say("%s %s", at, c.args[1])
}

// curl asks for a page outside, or for what the cloud itself serves.
func curl(ctx context.Context, c *call) int {
	at := c.last()
	if c.guest.cutOff() || c.guest.spoilt("way-out") {
		c.guest.sleep(ctx, 5)
		return c.fail(28, "curl: (28) Connection timed out")
	}
	if c.guest.Fetch != nil {
		switch status, body := c.guest.Fetch(at); {
		case status == 200:
			io.WriteString(c.out, body)
			return 0
		case status > 0:
			return c.fail(22, "curl: (22) The requested URL returned error: %d", status)
		}
	}
	return c.say("200 %s", at)
}

// certificateOf shows until when the certificate of the machine is good, or its digest.
func certificateOf(_ context.Context, c *call) int {
	if len(c.guest.Certificate.Certificate) == 0 || c.guest.spoilt("certificate") {
		return c.fail(1, "unable to load certificate")
	}
	sum := sha256.Sum256(c.guest.Certificate.Certificate[0])
	return c.say("sha256 Fingerprint=%s", strings.ReplaceAll(strings.ToUpper(fmt.Sprintf("% x", sum[:])), " ", ":"))
}
