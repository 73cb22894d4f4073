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
	"undersail/internal/service"
	"undersail/internal/store"
)

// A database may be a copy, or behind: filled from a backup, put back to an earlier moment, gone
// on with on another machine. A service that finds signs of it is quiet: it looks at everything
// and changes nothing, until somebody says with --in-charge that this copy goes on.

// machineFile says on which machine a service's directory was used last.
const machineFile = "machine"

// charge reads whether the service may go on with a database, and puts it in charge where
// nothing speaks against it or confirmed says so. Why says what speaks against it; since is from
// which moment the records are.
func charge(ctx context.Context, st *store.Store, dir string, deeds *engine.Deeds, confirmed bool) (why string, since time.Time, err error) {
	now, err := st.Identity(ctx)
	if err != nil {
		return "", since, err
	}
	if since, err = st.Moment(ctx); err != nil {
		return "", since, err
	}
	was, err := st.InChargeOf(ctx)
	switch {
	case errors.Is(err, store.ErrNotFound): // of an earlier version, or new
	case err != nil:
		return "", since, err
	case was.System != now.System:
		why = "the database was filled from a backup, or is a copy: its server is another one than before"
	case was.Timeline != now.Timeline:
		why = "the database's server went on from an earlier moment: its history is another one than before"
	case was != now:
		why = "the database was filled from a backup: its tables are others than before"
	}
	if why == "" {
		if why, err = behind(ctx, st, deeds); err != nil {
			return "", since, err
		}
	}
	machine, known := machineID()
	if why == "" && known {
		before, err := os.ReadFile(filepath.Join(dir, machineFile))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return "", since, fmt.Errorf("read on which machine the service was: %w", err)
		}
		if err == nil && !bytes.Equal(before, machine) {
			why = "the service's directory was used on another machine before: it may be a copy"
		}
	}
	if why != "" && !confirmed {
		return why, since, nil
	}
	if err := st.PutInCharge(ctx, now); err != nil {
		return why, since, err
	}
	if known {
		if err := os.WriteFile(filepath.Join(dir, machineFile), machine, 0o600); err != nil {
			return why, since, fmt.Errorf("write on which machine the service is: %w", err)
		}
	}
	return why, since, nil
}

// behind says that the database does not know of what this service did last.
func behind(ctx context.Context, st *store.Store, deeds *engine.Deeds) (string, error) {
	all, err := deeds.All()
	if err != nil || len(all) == 0 {
		return "", err
	}
	last := all[len(all)-1]
	has, err := st.HasStep(ctx, last.Run, last.Token)
	if err != nil || has {
		return "", err
	}
	return fmt.Sprintf("the database is behind: it does not know that run %d of stack %s went on with %s on %s", last.Run, last.Stack, last.Resource, last.At.Local().Format("2006-01-02 15:04:05")), nil
}

// machineID is what systemd made for the machine, where it did.
func machineID() ([]byte, bool) {
	raw, err := os.ReadFile("/etc/machine-id")
	raw = bytes.TrimSpace(raw)
	return raw, err == nil && len(raw) > 0
}

// begin starts the engine, or leaves the service quiet. Before it goes on with a database that
// may be behind it looks at everything.
func (d *Daemon) begin(ctx, background context.Context, c Config) error {
	why, since, err := charge(ctx, d.store, c.Dir, c.Engine.Deeds, c.InCharge)
	if err != nil {
		return err
	}
	if why == "" {
		return d.Service.Engine().Start(background)
	}
	done, err := c.Engine.Deeds.All()
	if err != nil {
		return err
	}
	quiet := service.Quiet{Why: why, Since: since}
	if err := d.Service.Engine().BeQuiet(ctx); err != nil {
		return err
	}
	if !c.InCharge {
		c.Log.Warn("the service is quiet: it looks, and changes nothing", "why", why, "records", since, "remedy", "if this copy is the one that goes on, end every other one, and: undersail serve --in-charge")
		d.Service.BeQuiet(quiet)
		go d.Service.LookAtAll(background, done)
		return nil
	}
	d.Service.BeQuiet(quiet)
	d.Service.LookAtAll(ctx, done)
	if err := d.Service.TakeCharge(ctx); err != nil {
		return err
	}
	return d.Service.Engine().Start(background)
}
