package postgres

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// patience is how often a server that says nothing is asked whether it is there.
const patience = 200

// session waits until the server takes sessions, and opens one of the superuser's. A server that
// brings its data in order after a crash listens already and takes none, for as long as it needs.
func (s *Server) session(ctx context.Context, tries int) (*pgx.Conn, error) {
	for try := 0; ; {
		conn, err := pgx.Connect(ctx, InDatabase(s.admin, "postgres"))
		if err == nil {
			return conn, nil
		}
		if !startingUp(err) {
			try++
		}
		if try == tries || ctx.Err() != nil {
			return nil, fmt.Errorf("connect to the database server: %w", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// startingUp reports whether a server says that it is there and takes no sessions yet.
func startingUp(err error) bool {
	var said *pgconn.PgError
	return errors.As(err, &said) && said.Code == "57P03"
}

// ensureDatabase waits until the server takes sessions, and makes the roles and the
// database. What an older program made as the superuser becomes the owner's.
func (s *Server) ensureDatabase(ctx context.Context, passwords map[string]string) error {
	conn, err := s.session(ctx, patience)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	for _, role := range []string{superuser, ownerRole, serviceRole} {
		kept, err := verifier(passwords[role])
		if err != nil {
			return err
		}
		var there bool
		err = conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", role).Scan(&there)
		if err != nil {
			return fmt.Errorf("making sure of the database: %w", err)
		}
		verb, may := "CREATE", "LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS"
		if there {
			verb = "ALTER"
		}
		if role == superuser {
			may = ""
		}
		// A statement about roles takes no parameters.
		if _, err := conn.Exec(ctx, fmt.Sprintf("%s ROLE %s %s PASSWORD '%s'", verb, role, may, kept)); err != nil {
			return fmt.Errorf("make the role %s: %w", role, err)
		}
	}
	var there bool
	if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)",
		Database).Scan(&there); err != nil {
		return fmt.Errorf("making sure of the database: %w", err)
	}
	if !there {
		if _, err = conn.Exec(ctx, "CREATE DATABASE "+Database+" OWNER "+ownerRole); err != nil {
			return fmt.Errorf("making sure of the database: %w", err)
		}
	}
	return s.handOver(ctx)
}

// handOver lets the owner own what is in the database, and nobody else connect to it.
func (s *Server) handOver(ctx context.Context) error {
	conn, err := pgx.Connect(ctx, s.admin)
	if err != nil {
		return fmt.Errorf("connect to the database: %w", err)
	}
	defer conn.Close(ctx)
	for _, statement := range []string{
		"ALTER DATABASE " + Database + " OWNER TO " + ownerRole,
		"REVOKE ALL ON DATABASE " + Database + " FROM PUBLIC",
		"GRANT CONNECT ON DATABASE " + Database + " TO " + serviceRole,
		"ALTER SCHEMA public OWNER TO " + ownerRole,
		"REVOKE ALL ON SCHEMA public FROM PUBLIC",
		"GRANT USAGE ON SCHEMA public TO " + serviceRole,
		`DO $$ DECLARE x record; BEGIN
			FOR x IN SELECT c.oid::regclass AS what, c.relkind FROM pg_class c
			WHERE c.relnamespace = 'public'::regnamespace AND c.relowner =
			'` + superuser + `'::regrole AND c.relkind IN ('r', 'S', 'v')
				AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.deptype IN ('a', 'i')
				AND c.relkind = 'S') LOOP
				EXECUTE format('ALTER %s %s OWNER TO ` + ownerRole +
			`', CASE x.relkind WHEN 'S' THEN 'SEQUENCE' WHEN 'v' THEN 'VIEW' ELSE 'TABLE' END, x.what);
			END LOOP;
			FOR x IN SELECT p.oid::regprocedure AS what FROM pg_proc p WHERE p.pronamespace = 'public'::regnamespace
			AND p.proowner = '` + superuser + `'::regrole LOOP
				EXECUTE format('ALTER FUNCTION %s OWNER TO ` + ownerRole + `', x.what);
			END LOOP;
			FOR x IN SELECT t.oid::regtype AS what FROM pg_type t WHERE t.typnamespace = 'public'::regnamespace
			AND t.typowner = '` + superuser + `'::regrole AND t.typtype IN ('e', 'd') LOOP
				EXECUTE format('ALTER TYPE %s OWNER TO ` + ownerRole + `', x.what);
			END LOOP;
		END $$`,
	} {
		if _, err := conn.Exec(ctx, statement); err != nil {
			return fmt.Errorf("hand the database over to its owner: %w", err)
		}
	}
	return nil
}
