-- +goose Up

-- A run knows its kind, its account and how far it is without its proposal or its
-- steps. Writes counts the commits of its owners, so that one whose answer was
-- lost is recognised; seen_at is the last sign of an owner.
ALTER TABLE proposals DROP CONSTRAINT proposals_kind_check, ADD CONSTRAINT proposals_kind_check CHECK (kind IN ('apply', 'continue', 'retire', 'undo')),
    ADD COLUMN summary text NOT NULL DEFAULT '', ADD COLUMN template text NOT NULL DEFAULT '', ADD COLUMN hour double precision NOT NULL DEFAULT 0,
    ADD COLUMN currency text NOT NULL DEFAULT '', ADD COLUMN seconds double precision NOT NULL DEFAULT 0, ADD COLUMN undoes bigint REFERENCES runs;
UPDATE proposals SET hour = coalesce((document->'cost'->>'hour')::float8, 0), currency = coalesce(document->'cost'->>'currency', ''), seconds = coalesce((document->>'seconds')::float8, 0),
    template = CASE WHEN coalesce(document->'template'->>'name', '') = '' THEN '' ELSE (document->'template'->>'name') || '@' || (document->'template'->>'version') END,
    summary = coalesce((SELECT string_agg(n || ' ' || c, ', ' ORDER BY c) FROM (SELECT x->>'change' AS c, count(*) AS n FROM jsonb_array_elements(document->'changes') x GROUP BY 1) AS counted), '');
ALTER TABLE runs
    ADD COLUMN kind text NOT NULL DEFAULT 'apply',
    ADD COLUMN account text NOT NULL DEFAULT '',
    ADD COLUMN on_failure text NOT NULL DEFAULT 'keep' CHECK (on_failure IN ('keep', 'undo')),
    ADD COLUMN undoes bigint REFERENCES runs,
    ADD COLUMN parked_for text NOT NULL DEFAULT '',
    ADD COLUMN writes bigint NOT NULL DEFAULT 0,
    ADD COLUMN job bigint NOT NULL DEFAULT 0,
    ADD COLUMN seen_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    ADD COLUMN total int NOT NULL DEFAULT 0,
    ADD COLUMN finished int NOT NULL DEFAULT 0,
    ADD COLUMN expected_end timestamptz,
    ADD COLUMN decides text NOT NULL DEFAULT '';
UPDATE runs r SET kind = p.kind, account = k.account FROM proposals p, stacks k WHERE p.id = r.proposal_id AND k.id = r.stack_id;
UPDATE runs r SET total = (SELECT count(*) FROM steps WHERE run_id = r.id), finished = (SELECT count(*) FROM steps WHERE run_id = r.id AND state = 'healthy');

-- A step is an action on an identified resource: what it acts on is committed
-- before any call, and whoever takes the run over continues from that alone.
ALTER TABLE steps RENAME COLUMN change TO action;
ALTER TABLE steps
    ADD COLUMN region text NOT NULL DEFAULT '',
    ADD COLUMN parts jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN want jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN unset text[] NOT NULL DEFAULT '{}',
    ADD COLUMN before jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN waited_ms bigint NOT NULL DEFAULT 0, -- since it began, counted against no patience
    ADD COLUMN settle_waited_ms bigint NOT NULL DEFAULT 0; -- the same since it was made
ALTER TABLE resources
    ADD COLUMN parts jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN hour double precision NOT NULL DEFAULT 0;
ALTER TABLE stacks ADD COLUMN cloud text NOT NULL DEFAULT '', ADD COLUMN currency text NOT NULL DEFAULT '', ADD COLUMN title text NOT NULL DEFAULT '';

-- Durations of the last creations, at most 64 for each account and type.
CREATE TABLE durations (
    account text NOT NULL,
    type text NOT NULL,
    slot int NOT NULL,
    ms bigint NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (account, type, slot)
);

INSERT INTO durations (account, type, slot, ms, at)
    SELECT account, type, slot, ms, at FROM (
        SELECT k.account, st.type, (row_number() OVER (PARTITION BY k.account, st.type ORDER BY st.ended_at DESC) - 1)::int AS slot,
            (extract(epoch FROM st.ended_at - st.intent_at) * 1000)::bigint AS ms, st.ended_at AS at
        FROM steps st JOIN runs r ON r.id = st.run_id JOIN stacks k ON k.id = r.stack_id
        WHERE st.action = 'create' AND st.state = 'healthy' AND st.intent_at IS NOT NULL) AS learned
    WHERE slot < 64;

-- What stacks and their resources cost stood in the documents of proposals only.
CREATE TEMPORARY TABLE last_document ON COMMIT DROP AS
    SELECT DISTINCT ON (p.stack_id) p.stack_id, p.document FROM proposals p JOIN runs r ON r.proposal_id = p.id WHERE p.kind <> 'retire' ORDER BY p.stack_id, r.id DESC;
UPDATE stacks k SET cloud = coalesce(d.document->'stack'->>'cloud', ''), currency = coalesce(d.document->'cost'->>'currency', ''),
    title = coalesce(d.document->'rendering'->'template'->>'title', '') FROM last_document d WHERE d.stack_id = k.id;
UPDATE resources x SET hour = (line->>'hour')::float8 FROM last_document d, jsonb_array_elements(d.document->'cost'->'lines') AS line
    WHERE d.stack_id = x.stack_id AND line->>'resource' = x.name AND x.made_at IS NOT NULL;

-- One row for each stack with what lists tell of it. Triggers keep it in the same
-- transaction as what it tells.
CREATE TABLE summaries (
    stack_id uuid PRIMARY KEY REFERENCES stacks,
    name text NOT NULL,
    account text NOT NULL,
    retired boolean NOT NULL DEFAULT false,
    total int NOT NULL DEFAULT 0,
    healthy int NOT NULL DEFAULT 0,
    hour double precision NOT NULL DEFAULT 0,
    last_run bigint,
    changed xid8 NOT NULL DEFAULT pg_current_xact_id()
);
CREATE UNIQUE INDEX summaries_name ON summaries (name) WHERE NOT retired;
CREATE INDEX summaries_account ON summaries (account) WHERE NOT retired;
CREATE INDEX summaries_changed ON summaries (changed, stack_id);

-- +goose StatementBegin
CREATE FUNCTION summarise_stack() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO summaries (stack_id, name, account, retired) VALUES (NEW.id, NEW.name, NEW.account, NEW.retired_at IS NOT NULL)
        ON CONFLICT (stack_id) DO UPDATE SET name = excluded.name, account = excluded.account, retired = excluded.retired, changed = pg_current_xact_id();
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER summarise AFTER INSERT OR UPDATE ON stacks FOR EACH ROW EXECUTE FUNCTION summarise_stack();

-- +goose StatementBegin
CREATE FUNCTION summarise_resource() RETURNS trigger LANGUAGE plpgsql AS $$
DECLARE
    more int := 0;
    healthier int := 0;
    dearer double precision := 0;
BEGIN
    IF TG_OP <> 'INSERT' THEN
        more := more - 1;
        healthier := healthier - (OLD.state = 'healthy')::int;
        dearer := dearer - OLD.hour;
    END IF;
    IF TG_OP <> 'DELETE' THEN
        more := more + 1;
        healthier := healthier + (NEW.state = 'healthy')::int;
        dearer := dearer + NEW.hour;
    END IF;
    UPDATE summaries SET total = total + more, healthy = healthy + healthier, hour = hour + dearer, changed = pg_current_xact_id()
        WHERE stack_id = CASE TG_OP WHEN 'DELETE' THEN OLD.stack_id ELSE NEW.stack_id END;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER summarise AFTER INSERT OR DELETE OR UPDATE OF state, hour ON resources FOR EACH ROW EXECUTE FUNCTION summarise_resource();

-- +goose StatementBegin
CREATE FUNCTION summarise_run() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE summaries SET last_run = greatest(coalesce(last_run, 0), NEW.id), changed = pg_current_xact_id() WHERE stack_id = NEW.stack_id;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER summarise AFTER INSERT OR UPDATE OF state, finished, expected_end ON runs FOR EACH ROW EXECUTE FUNCTION summarise_run();

-- +goose StatementBegin
CREATE FUNCTION summarise_step() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF (OLD.state = 'healthy') <> (NEW.state = 'healthy') THEN
        UPDATE runs SET finished = finished + CASE WHEN NEW.state = 'healthy' THEN 1 ELSE -1 END WHERE id = NEW.run_id;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER summarise AFTER UPDATE OF state ON steps FOR EACH ROW EXECUTE FUNCTION summarise_step();

INSERT INTO summaries (stack_id, name, account, retired, total, healthy, hour, last_run)
    SELECT id, name, account, retired_at IS NOT NULL, (SELECT count(*) FROM resources r WHERE r.stack_id = k.id), (SELECT count(*) FROM resources r WHERE r.stack_id = k.id AND state = 'healthy'),
        (SELECT coalesce(sum(hour), 0) FROM resources r WHERE r.stack_id = k.id),
        (SELECT max(id) FROM runs r WHERE r.stack_id = k.id) FROM stacks k;

-- One limit for each account over all its runs and replicas: the rate adapts to
-- refusals, and every replica has its share of it.
CREATE TABLE limits (
    account text PRIMARY KEY,
    rate double precision NOT NULL, -- calls in a second, all replicas together
    ceiling double precision NOT NULL DEFAULT 0, -- the rate at which the cloud last refused
    until timestamptz NOT NULL DEFAULT '-infinity', -- no calls before
    lowered_at timestamptz NOT NULL DEFAULT '-infinity',
    raised_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE TABLE shares (
    account text NOT NULL,
    owner text NOT NULL,
    demand double precision NOT NULL, -- calls wanted in the last second
    seen timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (account, owner)
);

-- The answers to creating calls that carried a key.
CREATE TABLE idempotency (
    user_name text NOT NULL,
    key text NOT NULL,
    request text NOT NULL, -- digest of method, path and body
    status int NOT NULL DEFAULT 0, -- 0 while the call is carried out
    answer bytea NOT NULL DEFAULT '',
    created_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (user_name, key)
);
CREATE INDEX idempotency_age ON idempotency (created_at);

CREATE INDEX stacks_ever ON stacks (name, retired_at DESC);
CREATE INDEX stacks_read ON stacks USING gin (reads) WHERE retired_at IS NULL;
CREATE INDEX runs_stack ON runs (stack_id, id DESC);
CREATE INDEX runs_claims ON runs (claim_until) WHERE state IN ('queued', 'underway', 'stopping', 'undoing');
CREATE INDEX runs_owner ON runs (claim_owner) WHERE claim_owner IS NOT NULL;
CREATE INDEX runs_parked ON runs (account) WHERE state = 'parked';
CREATE INDEX runs_ended ON runs (ended_at) WHERE ended_at IS NOT NULL;
CREATE INDEX secrets_stack ON secrets (stack_id);
CREATE INDEX evidence_age ON evidence (at);
CREATE INDEX events_age ON events (at);
CREATE INDEX tokens_age ON tokens (expires_at);
CREATE INDEX proposals_age ON proposals (created_at);

-- +goose Down
DROP TABLE idempotency, shares, limits, summaries, durations CASCADE;
