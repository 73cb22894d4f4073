-- +goose Up
-- What a run rests on is compared in the moment in which it begins: the last run of its stack
-- with its attempt, what its account is held to, and what it takes up and reads.
ALTER TABLE runs
    ADD COLUMN attempt int NOT NULL DEFAULT 1,
    ADD COLUMN tried_by text NOT NULL DEFAULT '';
ALTER TABLE accounts ADD COLUMN revision bigint NOT NULL DEFAULT 1;

-- +goose StatementBegin
CREATE FUNCTION account_revised() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.revision := OLD.revision + 1;
    RETURN NEW;
END $$;
-- +goose StatementEnd
CREATE TRIGGER account_revised BEFORE UPDATE ON accounts FOR EACH ROW
    WHEN ((OLD.cloud, OLD.endpoint, OLD.credentials, OLD.regions, OLD.most_month, OLD.closed_at, OLD.allowed_regions, OLD.budget, OLD.ends_at, OLD.lease_seconds, OLD.tags, OLD.prices, OLD.unreached, OLD.second_person)
        IS DISTINCT FROM (NEW.cloud, NEW.endpoint, NEW.credentials, NEW.regions, NEW.most_month, NEW.closed_at, NEW.allowed_regions, NEW.budget, NEW.ends_at, NEW.lease_seconds, NEW.tags, NEW.prices, NEW.unreached, NEW.second_person))
    EXECUTE FUNCTION account_revised();
-- +goose StatementBegin
CREATE FUNCTION account_ranges_revised() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE accounts SET revision = revision + 1 WHERE name = coalesce(NEW.account, OLD.account);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER account_ranges_revised AFTER INSERT OR UPDATE OR DELETE ON account_ranges FOR EACH ROW EXECUTE FUNCTION account_ranges_revised();

-- What a run holds until it ends: a kept thing that it removes, by its token, or a stack whose
-- outputs it reads, as that was.
CREATE TABLE reservations (
    run_id bigint NOT NULL REFERENCES runs,
    kept text,
    kept_as text NOT NULL DEFAULT '',
    stack_id uuid REFERENCES stacks,
    last_run bigint NOT NULL DEFAULT 0,
    attempt int NOT NULL DEFAULT 0,
    CHECK ((kept IS NULL) <> (stack_id IS NULL))
);
CREATE UNIQUE INDEX reservations_run ON reservations (run_id, kept, stack_id) NULLS NOT DISTINCT;
CREATE INDEX reservations_kept ON reservations (kept) WHERE kept IS NOT NULL;
CREATE INDEX reservations_stack ON reservations (stack_id) WHERE stack_id IS NOT NULL;

-- A record says of one thing in the cloud what it is. Another thing is another record.
-- +goose StatementBegin
CREATE FUNCTION token_for_life() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the record of % is of %, and would be overwritten by %', OLD.name, OLD.token, NEW.token;
END $$;
-- +goose StatementEnd
CREATE TRIGGER token_for_life BEFORE UPDATE OF token ON resources FOR EACH ROW
    WHEN (OLD.token <> '' AND OLD.token <> NEW.token) EXECUTE FUNCTION token_for_life();

-- +goose Down
DROP TRIGGER token_for_life ON resources;
DROP FUNCTION token_for_life;
DROP TABLE reservations;
DROP TRIGGER account_ranges_revised ON account_ranges;
DROP FUNCTION account_ranges_revised;
DROP TRIGGER account_revised ON accounts;
DROP FUNCTION account_revised;
ALTER TABLE accounts DROP COLUMN revision;
ALTER TABLE runs DROP COLUMN attempt, DROP COLUMN tried_by;
