-- +goose Up
-- A run is under way, waits for people, or lies idle between two attempts. Each attempt is kept with
-- what it spent of the first two, whoever changed the state of the run, so that no hour in which
-- nobody did anything counts as work, and a second attempt does not take the first one's place.
CREATE TABLE attempts (
    run_id bigint NOT NULL REFERENCES runs ON DELETE CASCADE,
    number int NOT NULL,
    by text NOT NULL DEFAULT '',
    began_at timestamptz,
    ended_at timestamptz,
    state text NOT NULL DEFAULT '', -- in which it ended
    reason text NOT NULL DEFAULT '',
    under_way_ms bigint NOT NULL DEFAULT 0,
    waited_ms bigint NOT NULL DEFAULT 0,
    phase text NOT NULL DEFAULT '' CHECK (phase IN ('', 'under way', 'waiting')),
    phase_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (run_id, number)
);

-- The steps that an attempt left, where a later one tried them again.
CREATE TABLE tried_steps (
    run_id bigint NOT NULL,
    attempt int NOT NULL,
    number int NOT NULL,
    state text NOT NULL,
    reason text NOT NULL,
    intent_at timestamptz,
    made_at timestamptz,
    ended_at timestamptz,
    PRIMARY KEY (run_id, attempt, number),
    FOREIGN KEY (run_id, attempt) REFERENCES attempts ON DELETE CASCADE
);

-- +goose StatementBegin
CREATE FUNCTION phase_of(state text) RETURNS text LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE WHEN state IN ('underway', 'stopping', 'undoing') THEN 'under way' WHEN state = 'parked' THEN 'waiting' ELSE '' END
$$;
-- +goose StatementEnd

-- +goose StatementBegin
CREATE FUNCTION attempt_of_run() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    at timestamptz := clock_timestamp();
    next text := phase_of(NEW.state);
    over boolean := NEW.state IN ('done', 'failed', 'stopped', 'undone');
BEGIN
    INSERT INTO attempts (run_id, number, by) VALUES (NEW.id, NEW.attempt, CASE NEW.attempt WHEN 1 THEN NEW.started_by ELSE NEW.tried_by END) ON CONFLICT DO NOTHING;
    UPDATE attempts SET
        under_way_ms = under_way_ms + CASE phase WHEN 'under way' THEN greatest(0, 1000 * extract(epoch FROM at - phase_at)) ELSE 0 END,
        waited_ms = waited_ms + CASE phase WHEN 'waiting' THEN greatest(0, 1000 * extract(epoch FROM at - phase_at)) ELSE 0 END,
        phase = next, phase_at = at,
        began_at = coalesce(began_at, CASE WHEN next <> '' THEN at END),
        ended_at = CASE WHEN over THEN at END,
        state = CASE WHEN over THEN NEW.state ELSE '' END,
        reason = CASE WHEN over THEN NEW.reason ELSE '' END
    WHERE run_id = NEW.id AND number = NEW.attempt AND (phase <> next OR over OR ended_at IS NOT NULL);
    RETURN NULL;
END $$;
-- +goose StatementEnd

-- What is known of earlier runs stands in their events: from one to the next the run was under way, unless
-- the one says that it waits, or is over.
INSERT INTO attempts (run_id, number, by, began_at, ended_at, state, reason, under_way_ms, waited_ms, phase)
SELECT r.id, r.attempt, CASE r.attempt WHEN 1 THEN r.started_by ELSE r.tried_by END, r.started_at, r.ended_at,
    CASE WHEN r.ended_at IS NULL THEN '' ELSE r.state END, CASE WHEN r.ended_at IS NULL THEN '' ELSE r.reason END,
    coalesce(t.worked, 0), coalesce(t.waited, 0), CASE WHEN r.ended_at IS NULL THEN phase_of(r.state) ELSE '' END
FROM runs r LEFT JOIN (
    SELECT run_id,
        sum(1000 * extract(epoch FROM until - at)) FILTER (WHERE NOT (kind = 'run' AND state IN ('parked', 'queued', 'done', 'failed', 'stopped', 'undone')))::bigint AS worked,
        sum(1000 * extract(epoch FROM until - at)) FILTER (WHERE kind = 'run' AND state = 'parked')::bigint AS waited
    FROM (SELECT run_id, kind, state, at, lead(at) OVER (PARTITION BY run_id ORDER BY number) AS until FROM events) told
    GROUP BY run_id) t ON t.run_id = r.id;

CREATE TRIGGER attempt AFTER INSERT OR UPDATE OF state, attempt ON runs FOR EACH ROW EXECUTE FUNCTION attempt_of_run();

-- +goose Down
DROP TRIGGER attempt ON runs;
DROP FUNCTION attempt_of_run;
DROP FUNCTION phase_of;
DROP TABLE tried_steps;
DROP TABLE attempts;
