package engine

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"sync"
	"time"
)

// A database can be put back to an earlier moment, and then knows nothing of what was done
// since. So each service writes outside of it too what it is about to do in a cloud.

// Deed is something that a step did, or was about to do, in a cloud.
type Deed struct {
	At  time.Time `json:"at"`
	Run int64     `json:"run"`
	// Writes is how many writes of its owners the run had then: a database that knows the deed
	// has as many.
	Writes int64 `json:"writes"`
	// InCharge marks the moment in which a person said that the service goes on with a database
	// that did not know what stands before. It is of no run.
	InCharge bool   `json:"in_charge,omitempty"`
	Stack    string `json:"stack"`
	StackID  string `json:"stack_id"`
	Resource string `json:"resource"`
	Action   string `json:"action"`
	Token    string `json:"token"`
}

// Deeds is the file of them. The zero one keeps nothing.
type Deeds struct {
	file string
	mu   sync.Mutex
	out  *os.File
	size int64
}

// deedsKept is how large a file of deeds becomes before it makes way for a new one; the one
// before is kept.
const deedsKept = 8 << 20

// OpenDeeds opens a file of deeds, which may not be there yet.
func OpenDeeds(file string) (*Deeds, error) {
	d := &Deeds{file: file}
	return d, d.open()
}

func (d *Deeds) open() (err error) {
	if d.out, err = os.OpenFile(d.file, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600); err != nil {
		return fmt.Errorf("open the file of what was done: %w", err)
	}
	info, err := d.out.Stat()
	if err == nil {
		d.size = info.Size()
	}
	return err
}

// Add writes one down.
func (d *Deeds) Add(deed Deed) error {
	if d == nil || d.file == "" {
		return nil
	}
	line, err := json.Marshal(deed)
	if err != nil {
		return fmt.Errorf("write down what is done: %w", err)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.size > deedsKept {
		if err := errors.Join(d.out.Close(), os.Rename(d.file, d.file+".1"), d.open()); err != nil {
			return fmt.Errorf("write down what is done: %w", err)
		}
	}
	n, err := d.out.Write(append(line, '\n'))
	d.size += int64(n)
	return err
}

// All reads them, oldest first. A line that was cut off when the machine went down is left out.
func (d *Deeds) All() (out []Deed, err error) {
	if d == nil || d.file == "" {
		return nil, nil
	}
	for _, file := range []string{d.file + ".1", d.file} {
		f, err := os.Open(file)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("read what was done: %w", err)
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			var deed Deed
			if json.Unmarshal(lines.Bytes(), &deed) == nil {
				out = append(out, deed)
			}
		}
		f.Close()
	}
	return out, nil
}

// Close closes the file.
func (d *Deeds) Close() error {
	if d == nil || d.out == nil {
		return nil
	}
	return d.out.Close()
}
