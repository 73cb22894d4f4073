package guest

import (
	"context"
	"crypto/sha256"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
)

func cat(_ context.Context, c *call) int {
	names := c.names()
	if len(names) == 0 {
		names = []string{"-"}
	}
	code := 0
	for _, name := range names {
		if name == "-" {
			io.Copy(c.out, c.in)
			continue
		}
		text, ok := c.guest.read(c.at(name))
		if name == "/etc/motd" && c.guest.spoilt("message") {
			text, ok = "", true
		}
		if !ok {
			code = c.fail(1, "cat: %s: No such file or directory", name)
			continue
		}
		io.WriteString(c.out, text)
	}
	return code
}

// input is the text of the named file, or of standard input.
func (c *call) input(name string) (string, bool) {
	if name == "" || name == "-" {
		raw, _ := io.ReadAll(io.LimitReader(c.in, mostFile))
		return string(raw), true
	}
	return c.guest.read(c.at(name))
}

func grep(_ context.Context, c *call) int {
	quiet := slices.ContainsFunc(c.args,
		func(a string) bool { return strings.HasPrefix(a, "-") && strings.Contains(a, "q") })
	names := append(c.names(), "", "")
	text, ok := c.input(names[1])
	if !ok {
		return c.fail(2, "grep: %s: No such file or directory", names[1])
	}
	code := 1
	for line := range strings.Lines(text) {
		if strings.Contains(line, names[0]) {
			code = 0
			if !quiet {
				io.WriteString(c.out, strings.TrimRight(line, "\n")+"\n")
			}
		}
	}
	return code
}

// cut is head and tail by bytes: -c N gives the first ones, -c +N those from the Nth on.
func cut(_ context.Context, c *call) int {
	var from, most int64 = 1, -1
	var name string
	for i := 0; i < len(c.args); i++ {
		switch {
		case c.args[i] == "-c" && i+1 < len(c.args):
			i++
			if text, begins := strings.CutPrefix(c.args[i], "+"); begins {
				from, _ = strconv.ParseInt(text, 10, 64)
			} else {
				most, _ = strconv.ParseInt(text, 10, 64)
			}
		default:
			name = c.args[i]
		}
	}
	text, ok := c.input(name)
	if !ok {
		return c.fail(1, "%s: No such file or directory", name)
	}
	text = text[min(max(from-1, 0), int64(len(text))):]
	if most >= 0 {
		text = text[:min(most, int64(len(text)))]
	}
	io.WriteString(c.out, text)
	return 0
}

func count(_ context.Context, c *call) int {
	names := append(c.names(), "")
	text, ok := c.input(names[0])
	if !ok {
		return c.fail(1, "wc: %s: No such file or directory", names[0])
	}
	if slices.Contains(c.args, "-c") {
		return c.say("%d", len(text))
	}
	return c.say("%d", strings.Count(text, "\n"))
}

func digest(_ context.Context, c *call) int {
	for _, name := range append(c.names(), "")[:max(1, len(c.names()))] {
		text, ok := c.input(name)
		if !ok {
			return c.fail(1, "sha256sum: %s: No such file or directory", name)
		}
		c.say("%x  %s", sha256.Sum256([]byte(text)), name)
	}
	return 0
}

func mkdir(_ context.Context, c *call) int {
	parents := slices.Contains(c.args, "-p")
	for _, name := range c.names() {
		at := c.at(name)
		if parents {
			for _, dir := range above(at) {
				c.guest.makeDir(dir)
			}
			continue
		}
		if !c.guest.isDir(path.Dir(at)) {
			return c.fail(1, "mkdir: cannot create directory '%s': No such file or directory", name)
		}
		if !c.guest.makeDir(at) {
			return c.fail(1, "mkdir: cannot create directory '%s': File exists", name)
		}
	}
	return 0
}

// above lists a directory and those that it lies in, the outermost first.
func above(at string) []string {
	var out []string
	for ; at != "/"; at = path.Dir(at) {
		out = append(out, at)
	}
	slices.Reverse(out)
	return out
}

func remove(_ context.Context, c *call) int {
	force := slices.ContainsFunc(c.args,
		func(a string) bool { return strings.HasPrefix(a, "-") && strings.Contains(a, "f") })
	for _, name := range c.names() {
		if !c.guest.remove(c.at(name)) && !force {
			return c.fail(1, "rm: cannot remove '%s': No such file or directory", name)
		}
	}
	return 0
}

func move(_ context.Context, c *call) int {
	names := c.names()
	if len(names) != 2 {
		return c.fail(1, "mv: two names are needed")
	}
	text, ok := c.guest.read(c.at(names[0]))
	if !ok {
		return c.fail(1, "mv: cannot stat '%s': No such file or directory", names[0])
	}
	c.guest.write(c.at(names[1]), text)
	if c.at(names[0]) != c.at(names[1]) {
		c.guest.remove(c.at(names[0]))
	}
	return 0
}

// place is install -m MODE FROM TO, FROM being a file or /dev/stdin.
func place(_ context.Context, c *call) int {
	names := c.names()
	if len(names) < 2 {
		return c.fail(1, "install: two names are needed")
	}
	from, to := names[len(names)-2], names[len(names)-1]
	if from == "/dev/stdin" {
		from = "-"
	}
	text, ok := c.input(from)
	if !ok {
		return c.fail(1, "install: cannot stat '%s': No such file or directory", from)
	}
	c.guest.write(c.at(to), text)
	return 0
}

func ls(_ context.Context, c *call) int {
	at := c.dir
	if names := c.names(); len(names) > 0 {
		at = c.at(names[0])
	}
	if _, file := c.guest.read(at); file {
		return c.say("%s", c.last())
	}
	if !c.guest.isDir(at) {
		return c.fail(2, "ls: cannot access '%s': No such file or directory", c.last())
	}
	for _, name := range c.guest.list(at) {
		c.say("%s", name)
	}
	return 0
}

func touch(_ context.Context, c *call) int {
	for _, name := range c.names() {
		if _, there := c.guest.read(c.at(name)); !there {
			c.guest.write(c.at(name), "")
		}
	}
	return 0
}

func tee(_ context.Context, c *call) int {
	raw, _ := io.ReadAll(io.LimitReader(c.in, mostFile))
	for _, name := range c.names() {
		text := string(raw)
		if slices.Contains(c.args, "-a") {
			before, _ := c.guest.read(c.at(name))
			text = before + text
		}
		c.guest.write(c.at(name), text)
	}
	c.out.Write(raw)
	return 0
}
