package postgres

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/jackc/pgx/v5"
)

// Release stops the server if it was started by this process, and leaves one alone that
// was running already.
func (s *Server) Release() error {
	if s.found {
		return nil
	}
	return s.Stop()
}

// Dump writes everything of a database in the server's own format, as it is at one
// moment, while it is used.
func Dump(ctx context.Context, url string, into io.Writer) error {
	return tool(ctx, "pg_dump", url, nil, into, "--format=custom", "--no-owner", "--no-privileges")
}

// Load fills an empty database from what Dump wrote, wholly or not at all.
func Load(ctx context.Context, url string, from io.Reader) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	var tables int
	err = conn.QueryRow(ctx, "SELECT count(*) FROM pg_tables WHERE schemaname = 'public'").Scan(&tables)
	conn.Close(ctx)
	if err != nil {
		return fmt.Errorf("look into the database: %w", err)
	}
	if tables > 0 {
		return errors.New("the database is not empty; restore into a new directory or an empty database")
	}
	err = tool(ctx, "pg_restore", url, from, nil, "--no-owner", "--no-privileges", "--exit-on-error",
		"--single-transaction", "--dbname="+Database)
	if err != nil {
		return err
	}
	return analyze(ctx, url)
}

// analyze lets the server count what its tables hold: a backup has none of it, and until the
// server does so by itself, queries go through whole tables.
func analyze(ctx context.Context, url string) error {
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, "ANALYZE"); err != nil {
		return fmt.Errorf("count what the tables hold: %w", err)
	}
	return nil
}

// tool runs a program of PostgreSQL. How it connects is told by its environment: what
// stands in arguments is read by everybody on the machine.
func tool(ctx context.Context, name, at string, in io.Reader, out io.Writer, args ...string) error {
	bin, err := programs()
	if err != nil {
		return err
	}
	c, err := pgx.ParseConfig(at)
	if err != nil {
		return errors.New("the URL of the database cannot be read")
	}
	for i, arg := range args {
		if arg == "--dbname="+Database {
			args[i] = "--dbname=" + c.Database
		}
	}
	cmd := exec.CommandContext(ctx, filepath.Join(bin, name), args...)
	cmd.Env = append(os.Environ(), "PGHOST="+c.Host, fmt.Sprintf("PGPORT=%d", c.Port), "PGUSER="+c.User,
		"PGPASSWORD="+c.Password, "PGDATABASE="+c.Database)
	cmd.Env = append(cmd.Env, tlsOf(at)...)
	var said bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = in, out, &said
	if err := cmd.Run(); err != nil {
		return fmt.Errorf("%s: %w: %s", name, err, strings.TrimSpace(said.String()))
	}
	return nil
}

// tlsOf is how the connection is to be secured, as a URL says it: in which mode, by which
// authority, and with which certificate of our own.
func tlsOf(at string) (env []string) {
	u, err := url.Parse(at)
	if err != nil {
		return nil
	}
	for _, name := range []string{"sslmode", "sslrootcert", "sslcert", "sslkey"} {
		if v := u.Query().Get(name); v != "" {
			env = append(env, "PG"+strings.ToUpper(name)+"="+v)
		}
	}
	return env
}
