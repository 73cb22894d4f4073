package guest

import (
	"encoding/json"
	"log/slog"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// root is the disk that a machine boots from: it outlives a stop, another size and a
// restart of the simulator, and goes with the machine.
type root struct {
	mu   sync.Mutex
	file string // where it lasts, or empty
	content
}

type content struct {
	// Booted says that the first boot wrote what it had to write.
	Booted    bool              `json:"booted"`
	Files     map[string]string `json:"files"`
	Dirs      map[string]bool   `json:"dirs"`
	Installed []string          `json:"installed,omitempty"` // packages, after the first boot
	Off       map[string]bool   `json:"off,omitempty"`       // services that were stopped
	Passwords map[string]string `json:"passwords,omitempty"` // by user, set after the first boot
}

// usual are the directories of every machine.
func usual() map[string]bool {
	out := map[string]bool{}
	for _, dir := range strings.Fields("/ /etc /home /opt /run /run/chrony-dhcp /srv /tmp /usr /usr/bin /var " +
		"/var/lib /var/log /var/www") {
		out[dir] = true
	}
	return out
}

// rootOf finds the disk that a machine boots from, or gives it a fresh one.
func (f *Fabric) rootOf(id string) *root { return f.volume(id, usual()) }

// filesOf finds the files of an attached disk, or of what machines share.
func (f *Fabric) filesOf(id string) *root { return f.volume(id, map[string]bool{"/": true}) }

func (f *Fabric) volume(id string, dirs map[string]bool) *root {
	f.mu.Lock()
	defer f.mu.Unlock()
	if r := f.roots[id]; r != nil {
		return r
	}
	r := &root{content: content{Files: map[string]string{}, Dirs: dirs, Off: map[string]bool{}}}
	if f.keep != "" {
		r.file = filepath.Join(f.keep, id+".json")
		if raw, err := os.ReadFile(r.file); err == nil {
			if err := json.Unmarshal(raw, &r.content); err != nil { // maps that are there are filled
				slog.Warn("the disk of a machine cannot be read", "machine", id, "error", err)
			}
		}
	}
	f.roots[id] = r
	return r
}

// Forget throws the disk of a machine away that is gone.
func (f *Fabric) Forget(id string) {
	f.mu.Lock()
	r := f.roots[id]
	delete(f.roots, id)
	f.mu.Unlock()
	if f.keep != "" {
		file := filepath.Join(f.keep, id+".json")
		if r != nil {
			r.mu.Lock()
			r.file = ""
			r.mu.Unlock()
		}
		os.Remove(file)
	}
}

// change changes the disk and lets it last.
func (r *root) change(f func(*content)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f(&r.content)
	if r.file == "" {
		return
	}
	raw, err := json.Marshal(r.content)
	if err != nil {
		return
	}
	if err := os.WriteFile(r.file+".new", raw, 0o600); err != nil || os.Rename(r.file+".new", r.file) != nil {
		slog.Warn("the disk of a machine is not kept", "file", r.file, "error", err)
	}
}

// begin reports whether this is the first boot, once.
func (r *root) begin() bool {
	first := false
	r.change(func(c *content) { first, c.Booted = !c.Booted, true })
	return first
}

// installed lists the packages that were installed after the first boot.
func (r *root) installed() []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.Installed)
}

// off reports whether a service was stopped by hand.
func (r *root) off(service string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.Off[service]
}

// password is what was set for a user after the first boot, or nothing.
func (r *root) password(user string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.Passwords[user]
}

// write keeps a file, and the directories that it lies in.
func (r *root) write(at, text string) {
	r.change(func(c *content) {
		c.Files[at] = text
		for dir := path.Dir(at); !c.Dirs[dir]; dir = path.Dir(dir) {
			c.Dirs[dir] = true
		}
	})
}

// read gives a file.
func (r *root) read(at string) (string, bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	text, ok := r.Files[at]
	return text, ok
}

// isDir reports whether there is such a directory.
func (r *root) isDir(at string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.Dirs[at]
}

// makeDir makes a directory; false says that there is something of that name.
func (r *root) makeDir(at string) bool {
	made := false
	r.change(func(c *content) {
		if _, file := c.Files[at]; !file && !c.Dirs[at] {
			c.Dirs[at], made = true, true
		}
	})
	return made
}

// remove takes away a file, or a directory with all that is in it.
func (r *root) remove(at string) bool {
	there := false
	r.change(func(c *content) {
		within := strings.TrimSuffix(at, "/") + "/"
		maps.DeleteFunc(c.Files, func(name, _ string) bool {
			gone := name == at || strings.HasPrefix(name, within)
			there = there || gone
			return gone
		})
		maps.DeleteFunc(c.Dirs, func(name string, _ bool) bool {
			gone := name == at || strings.HasPrefix(name, within)
			there = there || gone
			return gone
		})
	})
	return there
}

// list names what is directly in a directory.
func (r *root) list(dir string) []string {
	r.mu.Lock()
	defer r.mu.Unlock()
	names := []string{}
	add := func(at string) {
		if at != "/" && path.Dir(at) == path.Clean(dir) {
			names = append(names, path.Base(at))
		}
	}
	for at := range r.Files {
		add(at)
	}
	for at := range r.Dirs {
		add(at)
	}
	slices.Sort(names)
	return slices.Compact(names)
}
