package guest

import (
	"context"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"
	"time"
)

// NFS is the port at which shared file systems are mounted (RFC 8881).
const NFS = 2049

// mount is a file system at a directory of a machine: that of a disk, or one that
// machines share.
type mount struct {
	dir    string
	source string // such as vdb, or 10.60.0.4:/
	system string
	bytes  int64
	files  *root
}

// mounts are the file systems that are mounted now, beside the one that the machine boots
// from. A disk that broke is not, nor what is shared and cannot be reached.
func (g *Guest) mounts() []mount {
	var out []mount
	for i, d := range g.attached() {
		if d.Mount != "" && !g.lost(d) {
			out = append(out, mount{path.Clean(d.Mount), fmt.Sprintf("/dev/vd%c", 'b'+i), g.system(d), d.Bytes,
				g.fabric.filesOf(d.ID)})
		}
	}
	for _, s := range g.sharedMounts() {
		if files, bytes := g.fabric.shared(g, s.host); files != nil {
			out = append(out, mount{s.dir, s.host.String() + ":/", "nfs4", bytes, files})
		}
	}
	return out
}

// lost reports whether a disk has failed.
func (g *Guest) lost(d Disk) bool { return g.Failed != nil && g.Failed(d.ID) }

// sharedMount is what the machine is to mount over the network.
type sharedMount struct {
	host netip.Addr
	dir  string
	// optional says that the machine boots without it.
	optional bool
}

// sharedMounts are those of the first boot's configuration, in the fields of fstab(5), and
// those that were mounted by hand.
func (g *Guest) sharedMounts() []sharedMount {
	var out []sharedMount
	for _, item := range list(g.UserData["mounts"]) {
		fields := list(item)
		if len(fields) < 2 {
			continue
		}
		options := "nofail"
		if len(fields) > 3 {
			options = fmt.Sprint(fields[3])
		}
		if host, ok := netSource(fmt.Sprint(fields[0])); ok {
			out = append(out, sharedMount{host, path.Clean(fmt.Sprint(fields[1])),
				slices.Contains(strings.Split(options, ","), "nofail")})
		}
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return append(out, g.byHand...)
}

// netSource reads HOST:PATH.
func netSource(source string) (netip.Addr, bool) {
	host, _, ok := strings.Cut(source, ":/")
	at, err := netip.ParseAddr(host)
	return at, ok && err == nil
}

// emergency says what a machine waits for at its boot in vain, or nothing: a disk or a
// shared file system that it may not boot without.
func (g *Guest) emergency() string {
	for _, d := range g.attached() {
		if d.Mount != "" && !d.Optional && g.lost(d) {
			return d.Mount
		}
	}
	for _, s := range g.sharedMounts() {
		if files, _ := g.fabric.shared(g, s.host); files == nil && !s.optional {
			return s.dir
		}
	}
	return ""
}

// on finds the file system in which a file lies, and its name there.
func (g *Guest) on(at string) (*root, string) {
	files, name, longest := g.root, at, 0
	for _, m := range g.mounts() {
		within, ok := strings.CutPrefix(at, m.dir)
		if ok && len(m.dir) > longest && (within == "" || within[0] == '/') {
			files, name, longest = m.files, path.Clean("/"+within), len(m.dir)
		}
	}
	return files, name
}

func (g *Guest) read(at string) (string, bool) {
	files, name := g.on(at)
	return files.read(name)
}

func (g *Guest) write(at, text string) {
	files, name := g.on(at)
	files.write(name, text)
}

func (g *Guest) isDir(at string) bool {
	files, name := g.on(at)
	return files.isDir(name)
}

func (g *Guest) makeDir(at string) bool {
	files, name := g.on(at)
	return files.makeDir(name)
}

func (g *Guest) remove(at string) bool {
	files, name := g.on(at)
	return name != "/" && files.remove(name)
}

// list names what is directly in a directory, file systems that are mounted there too.
func (g *Guest) list(dir string) []string {
	files, name := g.on(dir)
	names := files.list(name)
	for _, m := range g.mounts() {
		if path.Dir(m.dir) == path.Clean(dir) {
			names = append(names, path.Base(m.dir))
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// mountBy is mount(8): without arguments it tells what is mounted.
func mountBy(_ context.Context, c *call) int {
	names := c.names()
	if len(names) > 2 { // -t nfs4 FROM TO, -o OPTIONS FROM TO
		names = names[len(names)-2:]
	}
	if len(names) < 2 {
		for _, m := range c.guest.mounts() {
			c.say("%s on %s type %s (rw)", m.source, m.dir, m.system)
		}
		return 0
	}
	host, ok := netSource(names[0])
	dir := c.at(names[1])
	switch {
	case !ok:
		return c.fail(32, "mount: %s: special device %s does not exist.", names[1], names[0])
	case !c.guest.isDir(dir):
		return c.fail(32, "mount: %s: mount point does not exist.", names[1])
	}
	if files, _ := c.guest.fabric.shared(c.guest, host); files == nil {
		return c.fail(32, "mount.nfs4: Connection timed out for %s", names[0])
	}
	c.guest.mu.Lock()
	defer c.guest.mu.Unlock()
	c.guest.byHand = append(c.guest.byHand, sharedMount{host, dir, true})
	return 0
}

func unmount(_ context.Context, c *call) int {
	dir := c.at(c.last())
	c.guest.mu.Lock()
	defer c.guest.mu.Unlock()
	before := len(c.guest.byHand)
	c.guest.byHand = slices.DeleteFunc(c.guest.byHand, func(s sharedMount) bool { return s.dir == dir })
	if len(c.guest.byHand) == before {
		return c.fail(32, "umount: %s: not mounted.", c.last())
	}
	return 0
}

func mountpoint(_ context.Context, c *call) int {
	if c.guest.mounted(c.last()) {
		return c.say("%s is a mountpoint", c.last())
	}
	c.say("%s is not a mountpoint", c.last())
	return 32
}

// findmnt tells what is mounted at a directory, or nothing.
func findmnt(_ context.Context, c *call) int {
	for _, m := range c.guest.mounts() {
		if m.dir == c.last() {
			return c.say("TARGET SOURCE FSTYPE\n%s %s %s", m.dir, m.source, m.system)
		}
	}
	return 1
}

func df(_ context.Context, c *call) int {
	for _, m := range c.guest.mounts() {
		if m.dir == c.last() {
			return c.say("Filesystem Type 1K-blocks Mounted\n%s %s %d %s", m.source, m.system, m.bytes>>10, m.dir)
		}
	}
	return c.fail(1, "df: %s: No such file or directory", c.last())
}

// waitsFor is the directory whose file system the boot waits for, or nothing. A machine
// that once got through waits for nothing that it loses later.
func (g *Guest) waitsFor(now time.Time) string {
	g.mu.Lock()
	through := g.through
	g.mu.Unlock()
	if through || g.since(now) < sshAfter {
		return ""
	}
	missing := g.emergency()
	if missing == "" {
		g.mu.Lock()
		defer g.mu.Unlock()
		g.through = true
	}
	return missing
}
