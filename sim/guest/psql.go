package guest

import (
	"context"
	"io"
	"net"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
)

// psql sends statements to a database of the network: those of -c, or of standard input.
// The password is in PGPASSWORD.
func psql(ctx context.Context, c *call) int {
	conf, err := pgconn.ParseConfig("sslmode=disable")
	if err != nil {
		return c.fail(2, "psql: %v", err)
	}
	var statements string
	host, port := "", 5432
	for i := 0; i+1 < len(c.args); i++ {
		switch value := c.args[i+1]; c.args[i] {
		case "-h":
			host = value
		case "-p":
			if port, err = strconv.Atoi(value); err != nil {
				return c.fail(2, "psql: %q is no port", value)
			}
		case "-U":
			conf.User = value
		case "-d":
			conf.Database = value
		case "-c":
			statements = value
		}
	}
	if statements == "" {
		raw, _ := io.ReadAll(io.LimitReader(c.in, mostFile))
		statements = string(raw)
	}
	conf.Host, conf.Port, conf.Password, conf.Fallbacks = host, uint16(port), c.env.Get("PGPASSWORD").String(), nil
	conf.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	conf.DialFunc = func(context.Context, string, string) (net.Conn, error) {
		return c.guest.fabric.dial(c.guest, host, port)
	}
	conn, err := pgconn.ConnectConfig(ctx, conf)
	if err != nil {
		return c.fail(2, "psql: error: connection to server at \"%s\", port %d failed: %s", host, port, reasonOf(err))
	}
	defer conn.Close(context.WithoutCancel(ctx))
	results, err := conn.Exec(ctx, statements).ReadAll()
	for _, r := range results {
		for _, row := range r.Rows {
			fields := make([]string, len(row))
			for i, f := range row {
				fields[i] = string(f)
			}
			c.say("%s", strings.Join(fields, "|"))
		}
		if len(r.Rows) == 0 && r.CommandTag.String() != "" {
			c.say("%s", r.CommandTag)
		}
	}
	if err != nil {
		return c.fail(3, "ERROR: %s", reasonOf(err))
	}
	return 0
}

// reasonOf is the last of what an error says, where its reason stands.
func reasonOf(err error) string {
	text := err.Error()
	if i := strings.LastIndex(text, "FATAL: "); i >= 0 {
		text = text[i:]
	}
	return text
}
