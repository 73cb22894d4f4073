-- +goose Up
-- What the service itself has to remember: the fingerprint of the key that values are
-- sealed with, and the sealed key of the audit.
CREATE TABLE settings (
    name text PRIMARY KEY,
    value bytea NOT NULL
);

-- Who did what. Each entry carries the hash of the one before it.
CREATE TABLE audit (
    number bigint PRIMARY KEY,
    at timestamptz NOT NULL,
    who text NOT NULL,
    action text NOT NULL,
    subject text NOT NULL,
    reason text NOT NULL DEFAULT '',
    detail jsonb NOT NULL DEFAULT '{}',
    hash bytea NOT NULL
);
CREATE INDEX audit_subject ON audit (subject, number DESC);
-- +goose StatementBegin
CREATE FUNCTION audit_only_grows() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the audit only grows';
END $$;
-- +goose StatementEnd
CREATE TRIGGER audit_only_grows BEFORE UPDATE OR DELETE ON audit FOR EACH ROW EXECUTE FUNCTION audit_only_grows();
CREATE TRIGGER audit_is_not_emptied BEFORE TRUNCATE ON audit FOR EACH STATEMENT EXECUTE FUNCTION audit_only_grows();

-- Secrets and keys stand beside those of stacks: NAME@VERSION belongs to no stack. Of a
-- key pair whose private half somebody else has, only the public one is kept.
ALTER TABLE secrets
    ALTER COLUMN stack_id DROP NOT NULL,
    ADD COLUMN given_by text NOT NULL DEFAULT '',
    ADD COLUMN about text NOT NULL DEFAULT '',
    ADD COLUMN public text NOT NULL DEFAULT '',
    ADD COLUMN sealed_with text NOT NULL DEFAULT '',
    DROP CONSTRAINT secrets_kind_check,
    ADD CONSTRAINT secrets_kind_check CHECK (kind IN ('given', 'generated', 'private_key', 'public_key'));

-- What an account is held to, and what was known of it last. An account that is closed
-- stays, for the sake of what its stacks tell.
ALTER TABLE accounts
    ADD COLUMN sealed_with text NOT NULL DEFAULT '',
    ADD COLUMN allowed_regions text[] NOT NULL DEFAULT '{}',
    ADD COLUMN budget double precision,
    ADD COLUMN ends_at timestamptz,
    ADD COLUMN lease_seconds bigint NOT NULL DEFAULT 0,
    ADD COLUMN tags jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN prices jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN identity jsonb NOT NULL DEFAULT '{}',
    ADD COLUMN tested_at timestamptz,
    ADD COLUMN closed_at timestamptz,
    ADD COLUMN closed_why text NOT NULL DEFAULT '';

-- Credentials of libraries, sealed together with where the library lies.
ALTER TABLE libraries ADD COLUMN credentials bytea NOT NULL DEFAULT '', ADD COLUMN sealed_with text NOT NULL DEFAULT '';

-- Connections that people began to machines, with the keys that they may sign in with.
CREATE TABLE connections (
    id uuid PRIMARY KEY,
    stack_id uuid NOT NULL REFERENCES stacks,
    user_name text NOT NULL,
    hops jsonb NOT NULL,
    ends_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE connections;
ALTER TABLE libraries DROP COLUMN credentials, DROP COLUMN sealed_with;
ALTER TABLE accounts DROP COLUMN sealed_with, DROP COLUMN allowed_regions, DROP COLUMN budget, DROP COLUMN ends_at, DROP COLUMN lease_seconds, DROP COLUMN tags, DROP COLUMN prices,
    DROP COLUMN identity, DROP COLUMN tested_at, DROP COLUMN closed_at, DROP COLUMN closed_why;
DELETE FROM secrets WHERE stack_id IS NULL;
ALTER TABLE secrets DROP CONSTRAINT secrets_kind_check, ADD CONSTRAINT secrets_kind_check CHECK (kind IN ('given', 'generated', 'private_key')),
    DROP COLUMN given_by, DROP COLUMN about, DROP COLUMN public, DROP COLUMN sealed_with, ALTER COLUMN stack_id SET NOT NULL;
DROP TABLE audit, settings;
DROP FUNCTION audit_only_grows;
