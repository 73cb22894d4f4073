package store

import (
	"context"
	"time"
)

// Share is what one replica may do in an account for the next second.
type Share struct {
	Rate float64       // calls in a second
	Wait time.Duration // no calls for that long
}

// ShareLimit tells what a replica wanted of an account in the last second, whether
// the cloud refused it, and gives its share of the account's rate. All of it is
// one statement. The rate falls by three tenths with a refusal, at most once in a
// second; while demand stays unmet it rises, quickly up to just below the rate at
// which the cloud refused last, and slowly beyond. A share follows demand, and
// nobody's is less than a tenth of an equal one. A wait whose refusal lies later than now is of
// before the database's clock was put back, and so is whatever else was done later than now.
func (s *Store) ShareLimit(ctx context.Context, account, owner string, demand, initial float64, refused bool,
	until time.Duration) (Share, error) {
	var out Share
	var wait float64
	err := s.Pool.QueryRow(ctx, `WITH mine AS (
			INSERT INTO shares (account, owner, demand) VALUES ($1, $2, $3)
			ON CONFLICT (account, owner) DO UPDATE SET demand = $3, seen = clock_timestamp()
		), others AS (
			SELECT coalesce(sum(demand), 0) AS demand, count(*) AS n FROM shares WHERE account = $1 AND owner <> $2
			AND seen BETWEEN clock_timestamp() - interval '5 seconds' AND clock_timestamp()
		), kept AS (
			INSERT INTO limits AS l (account, rate, until) VALUES ($1, $4, CASE
			WHEN $6::float8 > 0 THEN clock_timestamp() + make_interval(secs => $6) ELSE to_timestamp(0) END)
			ON CONFLICT (account) DO UPDATE SET
				rate = CASE
					WHEN $5 AND (l.lowered_at < clock_timestamp() - interval '1 second'
					OR l.lowered_at > clock_timestamp()) THEN greatest(l.rate * 0.7, 0.5)
					WHEN $5 OR l.raised_at BETWEEN clock_timestamp() - interval '900 milliseconds'
					AND clock_timestamp() OR (SELECT demand FROM others) + $3 < l.rate * 0.9 THEN l.rate
					WHEN l.ceiling > 0 AND l.rate < l.ceiling * 0.95 THEN least(l.rate * 1.15, l.ceiling * 0.95)
					ELSE l.rate * CASE WHEN l.ceiling > 0 THEN 1.005 ELSE 1.25 END END,
				ceiling = CASE WHEN $5 AND (l.lowered_at < clock_timestamp() - interval '1 second'
				OR l.lowered_at > clock_timestamp()) THEN l.rate ELSE l.ceiling END,
				lowered_at = CASE WHEN $5 AND (l.lowered_at < clock_timestamp() - interval '1 second'
				OR l.lowered_at > clock_timestamp()) THEN clock_timestamp()
				ELSE least(l.lowered_at, clock_timestamp()) END,
				raised_at = CASE WHEN $5 OR l.raised_at BETWEEN clock_timestamp() - interval '900 milliseconds'
				AND clock_timestamp() THEN l.raised_at ELSE clock_timestamp() END,
				until = greatest(CASE WHEN l.until <= clock_timestamp()
				OR l.lowered_at > clock_timestamp() THEN to_timestamp(0) ELSE l.until END,
					CASE WHEN $6::float8 > 0 THEN clock_timestamp() + make_interval(secs => $6)
					ELSE to_timestamp(0) END)
			RETURNING rate, until
		) SELECT kept.rate * greatest($3 / greatest(others.demand + $3, 0.001), 0.1 / (others.n + 1)), greatest(0,
		extract(epoch FROM kept.until - clock_timestamp()))::float8 FROM kept, others`,
		account, owner, demand, initial, refused, until.Seconds()).Scan(&out.Rate, &wait)
	out.Wait = time.Duration(wait * float64(time.Second))
	return out, classify(err)
}
