package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"undersail/internal/core/state"
	"undersail/internal/engine"
	"undersail/internal/postgres/postgrestest"
	"undersail/internal/service/servicetest"
	"undersail/internal/store"
	"undersail/sim/world"
)

// settable lets a test set the clock of the rig's database, for services that connect with the
// option that it gives.
func settable(t *testing.T, r *servicetest.Rig) (option func(*store.Opening), set func(ahead time.Duration)) {
	t.Helper()
	conn, err := pgx.Connect(context.Background(), postgrestest.AsAdmin(r.DatabaseURL))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { conn.Close(context.Background()) })
	for _, statement := range []string{"CREATE SCHEMA clock", "CREATE TABLE clock.ahead (by interval NOT NULL)",
		"INSERT INTO clock.ahead VALUES ('0')",
		"CREATE FUNCTION clock.clock_timestamp() RETURNS timestamptz LANGUAGE sql VOLATILE AS 'SELECT " +
			"pg_catalog.clock_timestamp() + by FROM clock.ahead'",
		"CREATE FUNCTION clock.now() RETURNS timestamptz LANGUAGE sql STABLE AS 'SELECT pg_catalog.now() + by FROM " +
			"clock.ahead'",
		"GRANT USAGE ON SCHEMA clock TO PUBLIC", "GRANT SELECT ON clock.ahead TO PUBLIC"} {
		if _, err := conn.Exec(context.Background(), statement); err != nil {
			t.Fatal(statement, err)
		}
	}
	option = func(c *store.Opening) {
		c.ConnConfig.RuntimeParams["search_path"] = "public, clock, pg_catalog"
	}
	return option, func(ahead time.Duration) {
		t.Helper()
		if _, err := conn.Exec(context.Background(), "UPDATE clock.ahead SET by = $1::interval", ahead); err != nil {
			t.Fatal(err)
		}
	}
}

// TestAClockThatIsSetCostsNoPatience: while a disk is being made the database's clock is set an
// hour ahead, or back; the run goes on as if nothing had happened, also with another engine, and
// says so.
func TestAClockThatIsSetCostsNoPatience(t *testing.T) {
	t.Parallel()
	for _, by := range []time.Duration{time.Hour, -time.Hour} {
		for _, handedOver := range []bool{false, true} {
			t.Run(fmt.Sprint(by, " ", handedOver), func(t *testing.T) {
				t.Parallel()
				r := servicetest.New(t, 20)
				option, set := settable(t, r)
				config := engine.Config{ClaimLife: time.Second}
				s, quit := r.Start(config, nil, option)
				r.Fault(world.Fault{Kind: "slow", On: "disks", Count: 1, Seconds: 3})
				id := r.ApplySource(s, "gauge",
					"undersail: 1\nabout: {name: gauge, version: 1.0.0, title: Gauge}\nresources: {data: {type: "+
						"disk, patience: 40m, want: {size: 20GiB, type: solid}}}\n", nil)
				r.Until(s, id, "creating data")
				set(by)
				if handedOver {
					quit()
					s, _ = r.Start(config, nil, option)
				}
				if run := r.Await(s, id); run.State != state.Done {
					t.Fatalf("%s: %s\n%s", run.State, run.Reason, r.Events(s, id))
				}
				if told := r.Events(s, id); !handedOver && !strings.Contains(told, "the database's clock was set") {
					t.Errorf("the jump is not told:\n%s", told)
				}
				p, err := s.Proposing.Retire(context.Background(), r.Admin, "gauge")
				if err != nil {
					t.Fatal(err)
				}
				if run := r.Await(s, r.Carry(s, p)); run.State != state.Done {
					t.Errorf("retiring: %s %s", run.State, run.Reason)
				}
			})
		}
	}
}
