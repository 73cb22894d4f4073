-- +goose Up

-- What outlived its stack on purpose, until it is taken over or removed for good. A
-- resource of the cloud stands either here or among the resources of one stack.
CREATE TABLE kept (
    token text PRIMARY KEY,
    stack_id uuid NOT NULL REFERENCES stacks,
    stack text NOT NULL,
    account text NOT NULL REFERENCES accounts,
    region text NOT NULL,
    name text NOT NULL, -- of the resource in its stack
    type text NOT NULL,
    declared text NOT NULL,
    want jsonb NOT NULL,
    attributes jsonb NOT NULL,
    parts jsonb NOT NULL,
    hour double precision NOT NULL,
    currency text NOT NULL,
    kept_at timestamptz NOT NULL DEFAULT clock_timestamp()
);
CREATE INDEX kept_stack ON kept (stack, name);
CREATE INDEX kept_stack_id ON kept (stack_id);
CREATE INDEX resources_token ON resources (token);
ALTER TABLE proposals DROP CONSTRAINT proposals_kind_check, ADD CONSTRAINT proposals_kind_check CHECK (kind IN ('apply', 'continue', 'retire', 'undo', 'discard'));

-- Resources that a retired stack kept were recorded with it and listed nowhere.
INSERT INTO kept (token, stack_id, stack, account, region, name, type, declared, want, attributes, parts, hour, currency, kept_at)
    SELECT r.token, r.stack_id, k.name, k.account, r.region, r.name, r.type, r.declared, r.want, r.attributes, r.parts, r.hour, k.currency, k.retired_at
    FROM resources r JOIN stacks k ON k.id = r.stack_id WHERE k.retired_at IS NOT NULL AND r.made_at IS NOT NULL ON CONFLICT DO NOTHING;
DELETE FROM resources r USING stacks k WHERE k.id = r.stack_id AND k.retired_at IS NOT NULL;

-- +goose Down
DROP INDEX resources_token;
DROP TABLE kept;
