-- +goose Up

-- What clouds sold when they were asked last, so that questions need no cloud.
CREATE TABLE offers (
    account text NOT NULL REFERENCES accounts,
    region text NOT NULL,
    body jsonb NOT NULL,
    at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (account, region)
);

-- Ranges that networks of an account must not overlap: peers and premises.
CREATE TABLE account_ranges (
    account text NOT NULL REFERENCES accounts,
    range cidr NOT NULL,
    about text NOT NULL DEFAULT '',
    declared_by text NOT NULL,
    declared_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (account, range)
);

-- Above this cost of a month a proposal asks for a consent; NULL asks for none.
ALTER TABLE accounts ADD COLUMN most_month double precision;

-- The organisation's own rules. A rule is changed by a new version and withdrawn by a
-- last one without text.
CREATE TABLE policies (
    name text NOT NULL,
    version int NOT NULL,
    about text NOT NULL DEFAULT '',
    does text NOT NULL CHECK (does IN ('forbid', 'warn', 'ask', 'nothing')),
    types text[] NOT NULL DEFAULT '{}',
    that text NOT NULL DEFAULT '',
    says text NOT NULL DEFAULT '',
    remedy text NOT NULL DEFAULT '',
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (name, version)
);

-- Who agreed to what, and when.
CREATE TABLE consents (
    proposal_id bigint NOT NULL REFERENCES proposals ON DELETE CASCADE,
    name text NOT NULL,
    about text NOT NULL,
    given_by text NOT NULL,
    given_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (proposal_id, name)
);

-- What a proposal would take beyond what is there: by resource its region, its shares of
-- quotas and its range. Other proposals count it as taken while it may still be made.
ALTER TABLE proposals ADD COLUMN reserves jsonb NOT NULL DEFAULT '[]';

-- What somebody has filled in and not yet proposed.
CREATE TABLE drafts (
    id text PRIMARY KEY,
    revision bigint NOT NULL DEFAULT 1,
    body jsonb NOT NULL,
    made_by text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    changed_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX drafts_age ON drafts (changed_at);

-- Durations are learned by region and size too.
ALTER TABLE durations ADD COLUMN region text NOT NULL DEFAULT '', ADD COLUMN size text NOT NULL DEFAULT '', DROP CONSTRAINT durations_pkey, ADD PRIMARY KEY (account, type, region, size, slot);

-- What resources cost from when to when, so that a stack knows what it has cost since
-- it was made. Hours are of the account's clock.
CREATE TABLE charges (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    stack_id uuid NOT NULL REFERENCES stacks,
    resource text NOT NULL,
    hour double precision NOT NULL,
    began_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    ended_at timestamptz
);
CREATE INDEX charges_stack ON charges (stack_id);
CREATE UNIQUE INDEX charges_open ON charges (stack_id, resource) WHERE ended_at IS NULL;
INSERT INTO charges (stack_id, resource, hour, began_at) SELECT stack_id, name, hour, coalesce(made_at, now()) FROM resources WHERE hour > 0;

-- +goose StatementBegin
CREATE FUNCTION charge_resource() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' AND OLD.hour = NEW.hour AND OLD.name = NEW.name THEN
        RETURN NULL;
    END IF;
    IF TG_OP <> 'INSERT' THEN
        UPDATE charges SET ended_at = clock_timestamp() WHERE stack_id = OLD.stack_id AND resource = OLD.name AND ended_at IS NULL;
    END IF;
    IF TG_OP <> 'DELETE' AND NEW.hour > 0 THEN
        INSERT INTO charges (stack_id, resource, hour) VALUES (NEW.stack_id, NEW.name, NEW.hour)
            ON CONFLICT (stack_id, resource) WHERE ended_at IS NULL DO UPDATE SET hour = excluded.hour;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER charge AFTER INSERT OR DELETE OR UPDATE OF hour, name ON resources FOR EACH ROW EXECUTE FUNCTION charge_resource();

-- +goose Down
DROP TRIGGER charge ON resources;
DROP FUNCTION charge_resource();
DROP TABLE charges, drafts, consents, policies, account_ranges, offers;
ALTER TABLE proposals DROP COLUMN reserves;
ALTER TABLE accounts DROP COLUMN most_month;
DELETE FROM durations a USING durations b WHERE a.account = b.account AND a.type = b.type AND a.slot = b.slot AND a.ctid < b.ctid;
ALTER TABLE durations DROP CONSTRAINT durations_pkey, DROP COLUMN region, DROP COLUMN size, ADD PRIMARY KEY (account, type, slot);
