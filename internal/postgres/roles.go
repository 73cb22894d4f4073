package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// ensureDatabase waits until the server takes sessions, and makes the roles and the
// database. What an older program made as the superuser becomes the owner's.
func (s *Server) ensureDatabase(ctx context.Context, passwords map[string]string) error {
	var conn *pgx.Conn
	var err error
	for range 200 {
		if conn, err = pgx.Connect(ctx, InDatabase(s.admin, "postgres")); err == nil {
			break
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
	if err != nil {
		return fmt.Errorf("connect to the database server: %w", err)
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
