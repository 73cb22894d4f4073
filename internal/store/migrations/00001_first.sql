-- +goose Up
CREATE TABLE users (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name text NOT NULL UNIQUE,
    full_name text NOT NULL,
    role text NOT NULL CHECK (role IN ('viewer', 'operator', 'reviewer', 'keeper', 'admin')),
    password_hash text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE tokens (
    hash text PRIMARY KEY,
    user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    kind text NOT NULL CHECK (kind IN ('bearer', 'session')),
    about text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE TABLE accounts (
    name text PRIMARY KEY,
    cloud text NOT NULL,
    endpoint text NOT NULL,
    credentials bytea NOT NULL, -- sealed
    clock_rate double precision NOT NULL,
    guest_range text NOT NULL,
    regions text[] NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE templates (
    name text NOT NULL,
    version text NOT NULL,
    title text NOT NULL,
    about text NOT NULL,
    maturity text NOT NULL,
    takes bigint NOT NULL,
    source text NOT NULL,
    digest text NOT NULL,
    published_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (name, version)
);
CREATE TABLE stacks (
    id uuid PRIMARY KEY,
    name text NOT NULL,
    account text NOT NULL REFERENCES accounts,
    region text NOT NULL,
    template_name text NOT NULL DEFAULT '',
    template_version text NOT NULL DEFAULT '',
    template_source text NOT NULL DEFAULT '',
    inputs jsonb NOT NULL DEFAULT '{}',
    secrets jsonb NOT NULL DEFAULT '{}', -- references only
    created_at timestamptz NOT NULL DEFAULT now(),
    verified_at timestamptz,
    retired_at timestamptz
);
CREATE UNIQUE INDEX stacks_name ON stacks (name) WHERE retired_at IS NULL;
CREATE TABLE resources (
    stack_id uuid NOT NULL REFERENCES stacks,
    name text NOT NULL,
    type text NOT NULL,
    declared text NOT NULL,
    region text NOT NULL,
    token text NOT NULL,
    state text NOT NULL,
    reason text NOT NULL DEFAULT '',
    want jsonb NOT NULL,
    attributes jsonb NOT NULL DEFAULT '{}',
    checks jsonb NOT NULL DEFAULT '[]',
    after text[] NOT NULL DEFAULT '{}',
    position bigint NOT NULL,
    made_at timestamptz,
    healthy_at timestamptz,
    PRIMARY KEY (stack_id, name)
);
CREATE TABLE proposals (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    stack_id uuid NOT NULL REFERENCES stacks,
    kind text NOT NULL CHECK (kind IN ('apply', 'continue', 'retire')),
    state text NOT NULL CHECK (state IN ('open', 'accepted', 'refused', 'stale', 'applied', 'expired')),
    why text NOT NULL DEFAULT '',
    document jsonb NOT NULL,
    created_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    decided_by text NOT NULL DEFAULT '',
    decided_at timestamptz,
    expires_at timestamptz NOT NULL
);
CREATE INDEX proposals_stack ON proposals (stack_id, id DESC);
CREATE TABLE runs (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    proposal_id bigint NOT NULL UNIQUE REFERENCES proposals,
    stack_id uuid NOT NULL REFERENCES stacks,
    state text NOT NULL CHECK (state IN ('queued', 'underway', 'parked', 'stopping', 'stopped', 'undoing', 'undone', 'done', 'failed')),
    reason text NOT NULL DEFAULT '',
    stop_asked boolean NOT NULL DEFAULT false,
    claim_owner text,
    claim_number bigint NOT NULL DEFAULT 1,
    claim_until timestamptz NOT NULL,
    last_event bigint NOT NULL DEFAULT 0,
    started_by text NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now(),
    started_at timestamptz,
    ended_at timestamptz
);
-- One active run for a stack.
CREATE UNIQUE INDEX runs_active ON runs (stack_id) WHERE state IN ('queued', 'underway', 'parked', 'stopping', 'undoing');
CREATE TABLE steps (
    run_id bigint NOT NULL REFERENCES runs,
    number int NOT NULL,
    resource text NOT NULL,
    type text NOT NULL,
    change text NOT NULL,
    state text NOT NULL,
    reason text NOT NULL DEFAULT '',
    needs jsonb NOT NULL,
    expect_ms bigint NOT NULL,
    patience_ms bigint NOT NULL,
    token text NOT NULL,
    intent_at timestamptz,
    called_at timestamptz,
    made_at timestamptz,
    ended_at timestamptz,
    PRIMARY KEY (run_id, number)
);
CREATE TABLE events (
    run_id bigint NOT NULL REFERENCES runs,
    number bigint NOT NULL,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    kind text NOT NULL,
    resource text NOT NULL DEFAULT '',
    state text NOT NULL DEFAULT '',
    text text NOT NULL,
    -- The cursor of a stream over all runs: serial numbers commit out of order.
    xid xid8 NOT NULL DEFAULT pg_current_xact_id(),
    PRIMARY KEY (run_id, number)
);
CREATE INDEX events_cursor ON events (xid, run_id, number);
CREATE TABLE evidence (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    stack_id uuid NOT NULL REFERENCES stacks,
    run_id bigint REFERENCES runs,
    resource text NOT NULL,
    check_name text NOT NULL,
    at timestamptz NOT NULL,
    asked text NOT NULL,
    answer text NOT NULL,
    passed boolean NOT NULL,
    took_ms bigint NOT NULL
);
CREATE INDEX evidence_stack ON evidence (stack_id, resource, id DESC);
CREATE INDEX evidence_run ON evidence (run_id, resource, id);
CREATE TABLE secrets (
    reference text PRIMARY KEY, -- STACK/INPUT@VERSION
    stack_id uuid NOT NULL REFERENCES stacks,
    kind text NOT NULL CHECK (kind IN ('given', 'generated', 'private_key')),
    sealed bytea NOT NULL,
    created_at timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE secrets, evidence, events, steps, runs, proposals, resources, stacks, templates, accounts, tokens, users;
