package guest

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/syntax"

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
		"apt-get": install, "cat": cat, "chmod": allowed, "chown": allowed, "chpasswd": passwords, "cloud-init": cloudInit, "curl": curl, "df": df, "dpkg": packageVersion, "dpkg-query": packageVersion,
		"free": free, "grep": grep, "head": cut, "hostname": hostname, "id": id, "install": place, "kill": kill, "ls": ls, "lsblk": lsblk, "lvs": volumes, "mkdir": mkdir, "findmnt": findmnt, "mountpoint": findmnt, "mv": move, "nohup": within,
		"nproc": nproc, "openssl": certificateOf, "ps": processes, "psql": psql, "rm": remove, "setsid": within, "sh": sh, "sha256sum": digest, "sleep": wait, "sudo": within, "sync": allowed, "systemctl": systemctl, "tail": cut, "tee": tee,
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

func nproc(_ context.Context, c *call) int {
	n := c.guest.VCPUs
	if c.guest.spoilt("cores") {
		n = max(1, n/2)
	}
	return c.say("%d", n)
}

func free(_ context.Context, c *call) int {
	n := c.guest.MemoryBytes
	if c.guest.spoilt("memory") {
		n /= 2
	}
	return c.say("               total\nMem:  %14d", n)
}

// lsblk shows the disks that are attached: their sizes in bytes with -b, their file
// systems with -f.
func lsblk(_ context.Context, c *call) int {
	inBytes, withSystem := slices.Contains(c.args, "-b"), slices.Contains(c.args, "-f")
	header := "NAME SIZE MOUNTPOINT"
	if withSystem {
		header = "NAME FSTYPE SIZE MOUNTPOINT"
	}
	c.say("%s", header)
	for i, d := range c.guest.attached() {
		bytes := d.Bytes
		if c.guest.spoilt("disk") {
			bytes /= 2
		}
		size := fmt.Sprintf("%dG", bytes>>30)
		if inBytes {
			size = strconv.FormatInt(bytes, 10)
		}
		if withSystem {
			size = c.guest.system(d) + " " + size
		}
		c.say("vd%c %s %s", 'b'+i, size, d.Mount)
	}
	return 0
}

// system is the file system of a disk.
func (g *Guest) system(d Disk) string {
	switch {
	case g.spoilt("file-system"):
		return "raw"
	case d.Format == "":
		return "ext4"
	}
	return d.Format
}

// volumes shows the logical volume that each disk is: a name of its mount, and its size.
func volumes(_ context.Context, c *call) int {
	c.say("LV VG SIZE")
	for i, d := range c.guest.attached() {
		if c.guest.spoilt("volume") && i == 0 {
			continue
		}
		c.say("%s vg%d %dG", strings.ReplaceAll(strings.Trim(d.Mount, "/"), "/", "-"), i, d.Bytes>>30)
	}
	return 0
}

func findmnt(_ context.Context, c *call) int {
	if c.guest.mounted(c.last()) {
		return c.say("%s is a mountpoint", c.last())
	}
	c.say("%s is not a mountpoint", c.last())
	return 32
}

func df(_ context.Context, c *call) int {
	for _, d := range c.guest.attached() {
		if d.Mount != "" && d.Mount == c.last() && c.guest.mounted(d.Mount) {
			return c.say("Filesystem Type 1K-blocks Mounted\n/dev/vdb %s %d %s", c.guest.system(d), d.Bytes>>10, d.Mount)
		}
	}
	return c.fail(1, "df: %s: No such file or directory", c.last())
}

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

// curl asks for a page outside, or on a machine of the network.
func curl(ctx context.Context, c *call) int {
	at := c.last()
	if c.guest.cutOff() || c.guest.spoilt("way-out") {
		c.guest.sleep(ctx, 5)
		return c.fail(28, "curl: (28) Connection timed out")
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
		text, ok := c.guest.root.read(c.at(name))
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
	return c.guest.root.read(c.at(name))
}

func grep(_ context.Context, c *call) int {
	quiet := slices.ContainsFunc(c.args, func(a string) bool { return strings.HasPrefix(a, "-") && strings.Contains(a, "q") })
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
				c.guest.root.makeDir(dir)
			}
			continue
		}
		if !c.guest.root.isDir(path.Dir(at)) {
			return c.fail(1, "mkdir: cannot create directory '%s': No such file or directory", name)
		}
		if !c.guest.root.makeDir(at) {
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
	force := slices.ContainsFunc(c.args, func(a string) bool { return strings.HasPrefix(a, "-") && strings.Contains(a, "f") })
	for _, name := range c.names() {
		if !c.guest.root.remove(c.at(name)) && !force {
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
	text, ok := c.guest.root.read(c.at(names[0]))
	if !ok {
		return c.fail(1, "mv: cannot stat '%s': No such file or directory", names[0])
	}
	c.guest.root.change(func(x *content) {
		x.Files[c.at(names[1])] = text
		delete(x.Files, c.at(names[0]))
	})
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
	c.guest.root.write(c.at(to), text)
	return 0
}

func ls(_ context.Context, c *call) int {
	at := c.dir
	if names := c.names(); len(names) > 0 {
		at = c.at(names[0])
	}
	if _, file := c.guest.root.read(at); file {
		return c.say("%s", c.last())
	}
	if !c.guest.root.isDir(at) {
		return c.fail(2, "ls: cannot access '%s': No such file or directory", c.last())
	}
	for _, name := range c.guest.root.list(at) {
		c.say("%s", name)
	}
	return 0
}

func touch(_ context.Context, c *call) int {
	for _, name := range c.names() {
		if _, there := c.guest.root.read(c.at(name)); !there {
			c.guest.root.write(c.at(name), "")
		}
	}
	return 0
}

func tee(_ context.Context, c *call) int {
	raw, _ := io.ReadAll(io.LimitReader(c.in, mostFile))
	for _, name := range c.names() {
		text := string(raw)
		if slices.Contains(c.args, "-a") {
			before, _ := c.guest.root.read(c.at(name))
			text = before + text
		}
		c.guest.root.write(c.at(name), text)
	}
	c.out.Write(raw)
	return 0
}

func wait(ctx context.Context, c *call) int {
	seconds, err := strconv.ParseFloat(c.last(), 64)
	if err != nil {
		return c.fail(1, "sleep: invalid time interval '%s'", c.last())
	}
	c.guest.sleep(ctx, seconds)
	return 0
}

// sh runs a script of its own: a text after -c, or a file. It has a number by which it
// is found while it runs.
func sh(ctx context.Context, c *call) int {
	args := c.args
	script, params := "", []string(nil)
	switch {
	case len(args) > 1 && args[0] == "-c":
		script = args[1]
		if len(args) > 3 {
			params = args[3:]
		}
	case len(args) > 0:
		text, ok := c.guest.root.read(c.at(args[0]))
		if !ok {
			return c.fail(127, "sh: %s: No such file or directory", args[0])
		}
		script, params = text, args[1:]
	default:
		script, _ = c.input("")
	}
	number := c.guest.begins()
	defer c.guest.ends(number)
	// The number of a shell is $$, which an interpreter inside another process has not.
	script = strings.ReplaceAll(script, "$$", strconv.Itoa(number))
	file, err := syntax.NewParser().Parse(strings.NewReader(script), "")
	if err != nil {
		return c.fail(2, "sh: %v", err)
	}
	return c.guest.interpret(ctx, file, c.user, c.env, c.in, c.out, c.err, params...)
}

// within runs the rest of the line as a command that outlives whoever began it.
func within(_ context.Context, c *call) int {
	args := c.args
	for len(args) > 0 && strings.HasPrefix(args[0], "-") {
		args = args[1:]
	}
	if len(args) == 0 {
		return 0
	}
	inner := *c
	inner.args = args[1:]
	return inner.do(c.guest.alive, args[0])
}

func kill(_ context.Context, c *call) int {
	number, err := strconv.Atoi(c.last())
	if err != nil || !c.guest.runs(number) {
		return c.fail(1, "kill: (%s) - No such process", c.last())
	}
	return 0
}

func processes(_ context.Context, c *call) int {
	for _, number := range c.guest.numbers() {
		c.say("%d sh", number)
	}
	return 0
}

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
	for _, line := range tool.Says {
		c.guest.sleep(ctx, tool.Takes/float64(len(tool.Says)))
		if ctx.Err() != nil {
			return 130
		}
		c.say("%s", strings.NewReplacer("{host}", c.guest.Label, "{version}", s.software.Version).Replace(line))
	}
	return 0
}

// queue submits jobs to the pool of the network, tells of them, or waits until all are
// done.
func queue(ctx context.Context, c *call) int {
	if c.guest.Queue == nil || c.guest.spoilt("queue") {
		return c.fail(1, "tide-queue: no queue answers in this network")
	}
	verb := append(c.names(), "")[0]
	if verb == "submit" {
		n, err := strconv.Atoi(c.last())
		if err != nil || n < 1 {
			return c.fail(2, "tide-queue submit: how many jobs?")
		}
		pool, err := c.guest.Submit(n)
		if err != nil {
			return c.fail(1, "tide-queue: %v", err)
		}
		return c.say("%d jobs are queued for %s", n, pool)
	}
	for {
		queued, done, members := c.guest.Queue()
		if verb != "wait" || queued == 0 {
			return c.say("queued %d, done %d, members %d", queued, done, members)
		}
		if c.guest.sleep(ctx, 5); ctx.Err() != nil {
			return 130
		}
	}
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
