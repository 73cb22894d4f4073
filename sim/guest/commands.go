package guest

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"

	"undersail/sim/market"
)

// call is one command that is run on a guest.
type call struct {
	guest    *Guest
	user     string
	dir      string
	env      expand.Environ
	args     []string
	in       io.Reader
	out, err io.Writer
}

func (c *call) say(format string, args ...any) int {
	fmt.Fprintf(c.out, format+"\n", args...)
	return 0
}

func (c *call) fail(code int, format string, args ...any) int {
	fmt.Fprintf(c.err, format+"\n", args...)
	return code
}

// last is the last argument, or nothing.
func (c *call) last() string {
	if len(c.args) == 0 {
		return ""
	}
	return c.args[len(c.args)-1]
}

// at makes a name absolute.
func (c *call) at(name string) string {
	if path.IsAbs(name) {
		return path.Clean(name)
	}
	return path.Join(c.dir, name)
}

// names are the arguments that are no options.
func (c *call) names() []string {
	return slices.DeleteFunc(slices.Clone(c.args), func(a string) bool { return strings.HasPrefix(a, "-") && a != "-" })
}

// commands are what a guest knows beside what its software brings.
var commands map[string]func(context.Context, *call) int

func init() { // some run others
	commands = map[string]func(context.Context, *call) int{
		"apt-get": install, "cat": cat, "chmod": allowed, "chown": allowed, "chpasswd": passwords,
		"cloud-init": cloudInit, "curl": curl, "df": df, "dpkg": packageVersion, "dpkg-query": packageVersion,
		"free": free, "getent": getent, "grep": grep, "head": cut, "hostname": hostname, "id": id, "install": place,
		"kill": kill, "ls": ls, "lsblk": lsblk, "lvs": volumes, "mkdir": mkdir, "mount": mountBy, "umount": unmount,
		"findmnt": findmnt, "mountpoint": mountpoint, "mv": move, "nohup": within,
		"nproc": nproc, "openssl": certificateOf, "ps": processes, "psql": psql, "rm": remove, "setsid": within,
		"sh": sh, "sha256sum": digest, "sleep": wait, "sudo": within, "sync": allowed, "systemctl": systemctl,
		"tail": cut, "tee": tee,
		"tide-queue": queue, "touch": touch, "wc": count, "whoami": whoami,
	}
}

// do runs a command: one of the machine's own, or one that its software brings.
func (c *call) do(ctx context.Context, name string) int {
	if f := commands[name]; f != nil {
		return f(ctx, c)
	}
	for _, s := range c.guest.all() {
		if tool, has := s.software.Tools[name]; has && c.guest.since(time.Now()) >= s.after {
			return c.tool(ctx, s, tool)
		}
	}
	return c.fail(127, "%s: command not found", name)
}

func allowed(context.Context, *call) int { return 0 }

func whoami(_ context.Context, c *call) int   { return c.say("%s", c.user) }
func hostname(_ context.Context, c *call) int { return c.say("%s", c.guest.Label) }

// tool runs what software brings: it takes a while, and says line by line how far it is.
func (c *call) tool(ctx context.Context, s *service, tool market.Tool) int {
	if tool.Checks != "" {
		return c.checkConfiguration(tool)
	}
	if tool.NeedsService && c.guest.state(s, time.Now()) != "active" {
		return c.fail(1, "%s is not running", s.name)
	}
	if tool.Spoils != "" && c.guest.spoilt(tool.Spoils) {
		return c.fail(1, "%s", tool.Fails)
	}
	if tool.Makes > 0 && c.guest.Make != nil {
		if err := c.guest.Make(tool.Makes); err != nil {
			return c.fail(1, "%s: %v", s.name, err)
		}
	}
	for _, line := range tool.Says {
		c.guest.sleep(ctx, tool.Takes/float64(len(tool.Says)))
		if ctx.Err() != nil {
			return 130
		}
		c.say("%s", strings.NewReplacer("{host}", c.guest.Label, "{version}", s.software.Version).Replace(line))
	}
	return 0
}

// checkConfiguration holds a file of lines `key: value` against what a tool wants.
func (c *call) checkConfiguration(t market.Tool) int {
	text, ok := c.input(c.last())
	if !ok {
		return c.fail(2, "%s: no such file", c.last())
	}
	given := map[string]string{}
	for line := range strings.Lines(text) {
		if key, value, ok := strings.Cut(strings.TrimSpace(line), ":"); ok {
			given[strings.TrimSpace(key)] = strings.Trim(strings.TrimSpace(value), `"`)
		}
	}
	for _, key := range strings.Fields(t.Checks) {
		if given[key] == "" {
			return c.fail(1, "%s: `%s` is missing", c.last(), key)
		}
	}
	if zone := given["zone"]; zone != "" && c.guest.Zones != nil && !slices.Contains(c.guest.Zones, zone) {
		return c.fail(1, "%s: there is no zone %q in this region", c.last(), zone)
	}
	return c.say("%s is valid", c.last())
}
