package daemon

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"undersail/internal/engine"
	"undersail/internal/stacks"
	"undersail/internal/store"
)

// A database may be a copy, or behind: filled from a backup, put back to an earlier moment, gone
// on with on another machine. A service that finds signs of it is quiet: it looks at everything
// and changes nothing, until somebody says with --in-charge that this copy goes on.

// machineFile says on which machine a service's directory was used last.
const machineFile = "machine"

// doubt says what speaks against going on with a database; it is empty where nothing does.
func doubt(ctx context.Context, st *store.Store, dir string, deeds []engine.Deed) (why string, err error) {
	now, err := st.Identity(ctx)
	if err != nil {
		return "", fmt.Errorf("asking the database who it is: %w", err)
	}
	was, err := st.InChargeOf(ctx)
	switch {
	case errors.Is(err, store.ErrNotFound): // of an earlier version, or new
	case err != nil:
		return "", err
	case was.System != now.System:
		return "the database was filled from a backup, or is a copy: its server is another one than before", nil
	case was.Timeline != now.Timeline:
		return "the database's server went on from an earlier moment: its history is another one than before", nil
	case was != now:
		return "the database was filled from a backup: its tables are others than before", nil
	}
	if why, err = behind(ctx, st, deeds); err != nil || why != "" {
		return why, err
	}
	before, err := os.ReadFile(filepath.Join(dir, machineFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", fmt.Errorf("read on which machine the service was: %w", err)
	}
	if machine, known := machineID(); known && err == nil && !bytes.Equal(before, machine) {
		return "the service's directory was used on another machine before: it may be a copy", nil
	}
	return "", nil
}

// takeCharge remembers that the service goes on with a database, on this machine.
func takeCharge(ctx context.Context, st *store.Store, dir string) error {
	now, err := st.Identity(ctx)
	if err == nil {
		err = st.PutInCharge(ctx, now)
	}
	if err != nil {
		return err
	}
	if machine, known := machineID(); known {
		if err := os.WriteFile(filepath.Join(dir, machineFile), machine, 0o600); err != nil {
			return fmt.Errorf("write on which machine the service is: %w", err)
		}
	}
	return nil
}

// behind says that the database does not know of what this service did last.
func behind(ctx context.Context, st *store.Store, deeds []engine.Deed) (string, error) {
	if len(deeds) == 0 {
		return "", nil
	}
	last := deeds[len(deeds)-1]
	if last.InCharge {
		return "", nil
	}
	has, err := st.HasWrites(ctx, last.Run, last.Writes)
	if err != nil || has {
		return "", err
	}
	return fmt.Sprintf("the database is behind: it does not know that run %d of stack %s went on with %s on %s",
		last.Run, last.Stack, last.Resource, last.At.Local().Format(time.DateTime)), nil
}

// machineID is what systemd made for the machine, where it did.
func machineID() ([]byte, bool) {
	raw, err := os.ReadFile("/etc/machine-id")
	raw = bytes.TrimSpace(raw)
	return raw, err == nil && len(raw) > 0
}

// begin starts the engine, or leaves the service quiet. Before it goes on with a database that
// may be behind it looks at everything; only then is it in charge.
func (d *Daemon) begin(ctx, background context.Context, c Config) error {
	deeds, err := c.Engine.Deeds.All()
	if err != nil {
		return fmt.Errorf("reading what was done in clouds: %w", err)
	}
	why, err := doubt(ctx, d.store, c.Dir, deeds)
	if err != nil {
		return err
	}
	if why != "" {
		since, err := d.store.Moment(ctx)
		if err == nil {
			err = d.Service.Stacks.BeQuiet(ctx, stacks.Quiet{Why: why, Since: since})
		}
		if err != nil {
			return err
		}
		if !c.InCharge {
			c.Log.Warn("the service is quiet: it looks, and changes nothing", "why", why, "records", since, "remedy",
				"if this copy is the one that goes on, end every other one, and: undersail serve --in-charge")
			go d.Service.Stacks.LookAtAll(background, deeds)
			return nil
		}
		d.Service.Stacks.LookAtAll(ctx, deeds)
		if err := c.Engine.Deeds.Add(engine.Deed{At: d.Service.Engine.Now(), InCharge: true}); err != nil {
			return fmt.Errorf("noting who is in charge: %w", err)
		}
	}
	if err := takeCharge(ctx, d.store, c.Dir); err != nil {
		return fmt.Errorf("taking charge: %w", err)
	}
	if why != "" {
		d.Service.Stacks.TakeCharge(ctx)
	}
	return d.Service.Engine.Start(background)
}
