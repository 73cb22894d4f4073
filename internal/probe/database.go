package probe

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"undersail/internal/core/health"
)

// queryOf says what a check of a database asks.
func queryOf(spec map[string]any) string {
	return fmt.Sprintf("%s in database %s at %s:%d as %s", cmp.Or(textOf(spec, "query"), "select 1"),
		textOf(spec, "name"), textOf(spec, "host"), number(spec, "port", health.DatabasePort), textOf(spec, "user"))
}

func init() { lookers["database"] = looker{queryOf, Prober.database} }

// database signs in to a database by the open protocol of PostgreSQL and asks a query.
// The first field of the first row is the answer.
func (p Prober) database(ctx context.Context, spec map[string]any) (string, answer) {
	r, err := p.route(ctx, spec)
	asked := queryOf(spec) + r.words
	if err != nil {
		return asked, none(reason(err))
	}
	defer r.close()
	c, err := pgconn.ParseConfig("sslmode=disable") // everything else is set below; the environment counts for nothing
	if err != nil {
		return asked, none(err.Error())
	}
	host := textOf(spec, "host")
	c.Host, c.Port, c.Database, c.User, c.Password, c.Fallbacks = host,
		uint16(number(spec, "port", health.DatabasePort)),
		textOf(spec, "name"), textOf(spec, "user"), textOf(spec, "password"), nil
	c.RuntimeParams = map[string]string{"application_name": "undersail-probe"}
	if trust := textOf(spec, "trust"); trust != "none" && trust != "" {
		c.TLSConfig = &tls.Config{ServerName: host, InsecureSkipVerify: trust == "any", MinVersion: tls.VersionTLS12}
	}
	c.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	c.DialFunc = func(ctx context.Context, network, addr string) (net.Conn, error) { return r.dial(ctx, network, addr) }
	conn, err := pgconn.ConnectConfig(ctx, c)
	if err != nil {
		return asked, none(refusedBy(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	result := conn.ExecParams(ctx, cmp.Or(textOf(spec, "query"), "select 1"), nil, nil, nil, nil).Read()
	if result.Err != nil {
		return asked, none("signed in; " + refusedBy(result.Err))
	}
	got := "no row"
	if len(result.Rows) > 0 && len(result.Rows[0]) > 0 {
		got = string(result.Rows[0][0])
	}
	a := answer{words: "signed in;", said: &said{text: got}, passed: len(result.Rows) > 0}
	if want := textOf(spec, "answer"); want != "" {
		a.passed = strings.Contains(got, want)
	}
	a.end = "(" + strconv.Itoa(len(result.Rows)) + " rows)"
	return asked, a
}

// refusedBy says why a database does not answer. Its own words may hold what was asked,
// and never what was sent to sign in.
func refusedBy(err error) string {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		if strings.HasPrefix(e.Code, "28") { // invalid authorization specification
			return "not signed in: " + e.Message
		}
		return e.Message
	}
	var connect *pgconn.ConnectError
	if errors.As(err, &connect) {
		err = errors.Unwrap(err)
	}
	return reason(err)
}
