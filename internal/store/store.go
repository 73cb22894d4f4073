// Package store keeps everything in PostgreSQL. It is the only package that
// speaks SQL, one subject to a file. Times come from the database's clock.
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"

	"undersail/internal/access"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is a pool of connections. It is safe for concurrent use.
type Store struct {
	Pool   *pgxpool.Pool
	notify notifier
}

// ErrNotFound says that there is no such thing.
var ErrNotFound = errors.New("not found")

// ErrConflict says that the thing is there already, or was changed meanwhile.
var ErrConflict = errors.New("conflict")

// Option changes how a store connects.
type Option func(*Opening)

// Opening is how a store connects.
type Opening struct {
	*pgxpool.Config
	log *slog.Logger
}

// Connections is how many connections a store has at most; 24 when it is not said.
func Connections(most int32) Option { return func(o *Opening) { o.MaxConns = most } }

// Logged is where it is told which tables are brought up to date; nowhere when it is not said.
func Logged(log *slog.Logger) Option {
	return func(o *Opening) { o.log = log.With("part", "migrations") }
}

// Open connects and brings the tables up to date. Replicas that start together
// take turns. Options change how it connects.
func Open(ctx context.Context, url string, options ...Option) (*Store, error) {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("read database URL: %w", err)
	}
	config.MaxConns = max(config.MaxConns, 24)
	config.AfterConnect = planOnce
	how := Opening{config, slog.New(slog.DiscardHandler)}
	for _, option := range options {
		option(&how)
	}
	pool, err := pgxpool.NewWithConfig(ctx, config)
	if err != nil {
		return nil, fmt.Errorf("connect to database: %w", err)
	}
	s := &Store{Pool: pool}
	if err := s.migrate(ctx, how.log); err != nil {
		pool.Close()
		return nil, err
	}
	return s, nil
}

// planOnce lets a connection plan each statement once: what is asked here is found by the same index
// whatever the values are, and planning a page anew for each of them takes twice as long as
// reading it. It is no parameter of the connection's start, which poolers refuse.
func planOnce(ctx context.Context, c *pgx.Conn) error {
	if _, err := c.Exec(ctx, "SET plan_cache_mode = force_generic_plan"); err != nil {
		return fmt.Errorf("set how the database plans: %w", err)
	}
	return nil
}

// OpenAs brings the tables up to date as the role that owns them, by migrateURL, lets the
// role of url read and write them, and connects as that. Without migrateURL it is [Open].
func OpenAs(ctx context.Context, url, migrateURL string, options ...Option) (*Store, error) {
	if migrateURL != "" {
		if err := Migrate(ctx, url, migrateURL, options...); err != nil {
			return nil, err
		}
	}
	return Open(ctx, url, options...)
}

// Migrate brings the tables up to date as the role of migrateURL, and grants that of url
// what the service needs: to read and write rows, but to the audit only to add, and nothing
// of how tables are made.
func Migrate(ctx context.Context, url, migrateURL string, options ...Option) error {
	config, err := pgxpool.ParseConfig(url)
	if err != nil {
		return fmt.Errorf("read database URL: %w", err)
	}
	owner, err := Open(ctx, migrateURL, options...)
	if err != nil {
		return err
	}
	defer owner.Close()
	role := pgx.Identifier{config.ConnConfig.User}.Sanitize()
	return owner.Tx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, "SELECT pg_advisory_xact_lock($1)", migrationLock); err != nil {
			return fmt.Errorf("migrating the database: %w", err)
		}
		var same bool
		if err := tx.QueryRow(ctx, "SELECT current_user = $1", config.ConnConfig.User).Scan(&same); err != nil || same {
			return err
		}
		for _, what := range []string{"GRANT USAGE ON SCHEMA public TO ",
			"GRANT SELECT, INSERT, UPDATE, DELETE ON ALL TABLES IN SCHEMA public TO ",
			"GRANT USAGE, SELECT ON ALL SEQUENCES IN SCHEMA public TO "} {
			if _, err := tx.Exec(ctx, what+role); err != nil {
				return fmt.Errorf("grant the service's role what it needs: %w", err)
			}
		}
		for _, table := range []string{"audit", "goose_db_version", "river_migration"} {
			if _, err := tx.Exec(ctx, "REVOKE UPDATE, DELETE, TRUNCATE ON "+table+" FROM "+role); err != nil {
				return fmt.Errorf("keep the service's role from what it must not change: %w", err)
			}
		}
		_, err := tx.Exec(ctx, "REVOKE INSERT ON goose_db_version, river_migration FROM "+role)
		return err
	})
}

// ByASuperuser reports whether the store connects as a superuser, who may do more than any
// service needs.
func (s *Store) ByASuperuser(ctx context.Context) (super bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT rolsuper FROM pg_roles WHERE rolname = current_user").Scan(&super)
	return super, classify(err)
}

// Attach connects to a database as it is, without bringing its tables up to date: for a
// look at one that a service of another version may be using.
func Attach(ctx context.Context, url string) (*Store, error) {
	pool, err := pgxpool.New(ctx, url)
	if err != nil {
		return nil, fmt.Errorf("connect to database: %w", err)
	}
	return &Store{Pool: pool}, nil
}

// Close ends all connections.
func (s *Store) Close() { s.Pool.Close() }

const migrationLock = 7_221_034

func (s *Store) migrate(ctx context.Context, log *slog.Logger) error {
	conn, err := s.Pool.Acquire(ctx)
	if err != nil {
		return fmt.Errorf("connect to database: %w", err)
	}
	defer conn.Release()
	if _, err := conn.Exec(ctx, "SELECT pg_advisory_lock($1)", migrationLock); err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	defer func() {
		_, _ = conn.Exec(context.WithoutCancel(ctx), "SELECT pg_advisory_unlock($1)", migrationLock)
	}()
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	db := sql.OpenDB(stdlib.GetPoolConnector(s.Pool))
	defer db.Close()
	ours, err := goose.NewProvider(goose.DialectPostgres, db, dir, goose.WithSlog(log))
	if err != nil {
		return fmt.Errorf("read migrations: %w", err)
	}
	done, err := ours.Up(ctx)
	for _, one := range done {
		log.Info("tables are brought up to date", "by", one.Source.Path, "duration", one.Duration)
	}
	if err != nil {
		return fmt.Errorf("migrate: %w", err)
	}
	queue, err := rivermigrate.New(riverpgxv5.New(s.Pool), &rivermigrate.Config{Logger: log})
	if err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	if _, err := queue.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
		return fmt.Errorf("migrate job queue: %w", err)
	}
	return nil
}

// Tx runs f in a transaction.
func (s *Store) Tx(ctx context.Context, f func(tx pgx.Tx) error) error {
	return classify(pgx.BeginFunc(ctx, s.Pool, f))
}

// classify turns what PostgreSQL says into the errors of this package.
func classify(err error) error {
	var pg *pgconn.PgError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, pgx.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &pg) && pg.Code == "23505":
		return fmt.Errorf("%w: %s", ErrConflict, pg.ConstraintName)
	}
	return err
}

// one reads a single row into a struct by column names.
func one[T any](ctx context.Context, q querier, query string, args ...any) (T, error) {
	rows, err := q.Query(ctx, query, args...)
	if err != nil {
		var zero T
		return zero, reading[T](err)
	}
	v, err := pgx.CollectExactlyOneRow(rows, pgx.RowToStructByName[T])
	if err == nil && !seen(ctx, v) {
		var zero T
		return zero, reading[T](pgx.ErrNoRows)
	}
	return v, reading[T](err)
}

// placed is a row that belongs to an account: whoever sees only some accounts finds no
// other rows, as if there were none.
type placed interface{ inAccount() string }

func (x Stack) inAccount() string    { return x.Account }
func (x Summary) inAccount() string  { return x.Account }
func (x Run) inAccount() string      { return x.Account }
func (x Proposal) inAccount() string { return x.Account }
func (x Kept) inAccount() string     { return x.Account }
func (x Account) inAccount() string  { return x.Name }

func seen(ctx context.Context, row any) bool {
	x, ok := row.(placed)
	return !ok || access.Sees(ctx, x.inAccount())
}

// reading says what was being read when something went wrong.
func reading[T any](err error) error {
	if err == nil {
		return nil
	}
	var what T
	name := strings.ToLower(strings.TrimPrefix(fmt.Sprintf("%T", what), "store."))
	return fmt.Errorf("read %s: %w", name, classify(err))
}

// many reads rows into structs by column names. It is never nil.
func many[T any](ctx context.Context, q querier, query string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, query, args...)
	if err != nil {
		return nil, reading[T](err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByName[T])
	// lists with pages leave them out by themselves
	list = slices.DeleteFunc(list, func(row T) bool { return !seen(ctx, row) })
	return orEmpty(list), reading[T](err)
}

type querier interface {
	Query(ctx context.Context, query string, args ...any) (pgx.Rows, error)
}

func exec(ctx context.Context, s *Store, query string, args ...any) error {
	if _, err := s.Pool.Exec(ctx, query, args...); err != nil {
		words := strings.Fields(query)
		return fmt.Errorf("%s: %w", strings.ToLower(strings.Join(words[:min(3, len(words))], " ")), classify(err))
	}
	return nil
}

// Away reports whether an error says that the database cannot be reached or is
// restarting, so that the same write may succeed later.
func Away(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		// 57P01 to 57P03: shutdown, crash, starting up; class 08: connection.
		return strings.HasPrefix(pg.Code, "57P") || strings.HasPrefix(pg.Code, "08") || strings.HasPrefix(pg.Code, "53")
	}
	var connect *pgconn.ConnectError
	var netError net.Error
	return errors.As(err, &connect) || errors.As(err, &netError) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || pgconn.SafeToRetry(err)
}

// Now is the database's clock.
func (s *Store) Now(ctx context.Context) (now time.Time, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&now)
	return now, classify(err)
}
