-- +goose Up
-- A secret that stands for itself belongs to an account, or to whoever administers the
-- service. Those of before belong to the one account that they are used in, if it is one.
ALTER TABLE secrets ADD COLUMN account text NOT NULL DEFAULT '';
UPDATE secrets x SET account = u.account FROM (
    SELECT e.value AS reference, min(k.account) AS account, count(DISTINCT k.account) AS accounts
    FROM stacks k, jsonb_each_text(k.secrets) e WHERE k.retired_at IS NULL GROUP BY e.value) u
    WHERE x.stack_id IS NULL AND u.accounts = 1 AND u.reference = x.reference;
UPDATE secrets x SET account = o.account FROM (
    SELECT split_part(reference, '@', 1) AS name, min(account) AS account, count(DISTINCT account) AS accounts
    FROM secrets WHERE stack_id IS NULL AND account <> '' GROUP BY 1) o
    WHERE x.stack_id IS NULL AND o.accounts = 1 AND split_part(x.reference, '@', 1) = o.name;
UPDATE secrets x SET account = '' FROM (
    SELECT split_part(reference, '@', 1) AS name FROM secrets WHERE stack_id IS NULL GROUP BY 1 HAVING count(DISTINCT account) > 1) m
    WHERE x.stack_id IS NULL AND split_part(x.reference, '@', 1) = m.name;

-- Who wrote a template's text; nobody knows of those of before.
ALTER TABLE templates ADD COLUMN published_by text NOT NULL DEFAULT '';

-- What was agreed to with a proposal is sealed: a row that somebody else wrote is none.
-- shaped_by are those who filled in what was proposed.
ALTER TABLE proposals
    ADD COLUMN agreement bytea,
    ADD COLUMN on_failure text NOT NULL DEFAULT '',
    ADD COLUMN shaped_by text[] NOT NULL DEFAULT '{}',
    DROP CONSTRAINT proposals_kind_check,
    ADD CONSTRAINT proposals_kind_check CHECK (kind IN ('apply', 'continue', 'retire', 'undo', 'discard', 'give')),
    ADD COLUMN gives_to bigint REFERENCES runs; -- the run that a small proposal is for
ALTER TABLE runs ADD COLUMN agreed jsonb NOT NULL DEFAULT '[]'; -- uses of secrets that were agreed to in the middle of it
ALTER TABLE runs ADD COLUMN given_seal bytea;
ALTER TABLE drafts ADD COLUMN shaped_by text[] NOT NULL DEFAULT '{}';
UPDATE drafts SET shaped_by = ARRAY[made_by];

-- In an account that asks for a second person, what is kept moves when two say so.
ALTER TABLE kept
    ADD COLUMN moving_to text NOT NULL DEFAULT '',
    ADD COLUMN moving_by text NOT NULL DEFAULT '',
    ADD COLUMN moving_at timestamptz;

-- What may be done in somebody's name when nobody does it: by whom it was agreed, for
-- what, until when.
CREATE TABLE agreements (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL CHECK (kind IN ('undo')),
    giver text NOT NULL,
    roles text[] NOT NULL, -- what the giver might when it was given
    stack_id uuid NOT NULL REFERENCES stacks,
    proposal_id bigint NOT NULL REFERENCES proposals,
    given_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL,
    ended_at timestamptz,
    ended_by text NOT NULL DEFAULT '',
    seal bytea NOT NULL
);
CREATE INDEX agreements_open ON agreements (giver) WHERE ended_at IS NULL;
CREATE UNIQUE INDEX agreements_proposal ON agreements (proposal_id, kind);

-- +goose Down
DROP TABLE agreements;
ALTER TABLE templates DROP COLUMN published_by;
ALTER TABLE kept DROP COLUMN moving_to, DROP COLUMN moving_by, DROP COLUMN moving_at;
ALTER TABLE drafts DROP COLUMN shaped_by;
ALTER TABLE runs DROP COLUMN agreed, DROP COLUMN given_seal;
ALTER TABLE proposals DROP COLUMN agreement, DROP COLUMN on_failure, DROP COLUMN shaped_by, DROP COLUMN gives_to;
ALTER TABLE secrets DROP COLUMN account;
