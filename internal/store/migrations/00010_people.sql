-- +goose Up
-- People have roles, each for the whole service (operator) or in one account
-- (operator@saltmere-live). Who signs in by OpenID Connect has an issuer and a subject
-- there, and no password here.
ALTER TABLE users
    ADD COLUMN roles text[] NOT NULL DEFAULT '{}',
    ADD COLUMN disabled_at timestamptz,
    ADD COLUMN signed_in_at timestamptz,
    ADD COLUMN made_by text NOT NULL DEFAULT '',
    ADD COLUMN issuer text NOT NULL DEFAULT '',
    ADD COLUMN subject text NOT NULL DEFAULT '';
UPDATE users SET roles = ARRAY[role];
ALTER TABLE users DROP COLUMN role;
CREATE UNIQUE INDEX users_subject ON users (issuer, subject) WHERE issuer <> '';

-- A session ends when it was not used for a while, too. A token may have fewer roles than
-- its owner; NULL are all of them.
ALTER TABLE tokens
    ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    ADD COLUMN roles text[],
    ADD COLUMN idle interval,
    ADD COLUMN used_at timestamptz NOT NULL DEFAULT now(),
    ADD COLUMN used_from text NOT NULL DEFAULT '';
CREATE INDEX tokens_user ON tokens (user_id);

-- Links that let somebody set a password, once.
CREATE TABLE invitations (
    hash text PRIMARY KEY,
    user_id bigint NOT NULL UNIQUE REFERENCES users ON DELETE CASCADE,
    made_by text NOT NULL,
    expires_at timestamptz NOT NULL
);

-- Tries to sign in that were not right, or are being looked at: by address, by name from
-- one address, and by name from addresses that it never signed in from; and by address
-- what was begun with a provider.
CREATE TABLE tries (
    kind text NOT NULL CHECK (kind IN ('address', 'pair', 'name', 'begin')),
    key text NOT NULL,
    count int NOT NULL DEFAULT 0,
    tried_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    next_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (kind, key)
);
CREATE INDEX tries_age ON tries (tried_at);
CREATE TABLE known_addresses (
    user_id bigint NOT NULL REFERENCES users ON DELETE CASCADE,
    address text NOT NULL,
    at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (user_id, address)
);

-- Sign-ins by OpenID Connect that are under way. Verifier and device code are sealed.
CREATE TABLE signing_in (
    hash text PRIMARY KEY,
    kind text NOT NULL CHECK (kind IN ('browser', 'terminal')),
    sealed bytea NOT NULL,
    next_at timestamptz NOT NULL DEFAULT now(),
    expires_at timestamptz NOT NULL
);
CREATE INDEX signing_in_age ON signing_in (expires_at);

-- An account may ask that somebody else than its author accepts a proposal.
ALTER TABLE accounts ADD COLUMN second_person boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE accounts DROP COLUMN second_person;
DROP TABLE signing_in, known_addresses, tries, invitations;
ALTER TABLE tokens DROP COLUMN id, DROP COLUMN roles, DROP COLUMN idle, DROP COLUMN used_at, DROP COLUMN used_from;
DELETE FROM users WHERE roles = '{}';
ALTER TABLE users ADD COLUMN role text NOT NULL DEFAULT 'viewer';
UPDATE users SET role = split_part(roles[1], '@', 1);
ALTER TABLE users DROP COLUMN roles, DROP COLUMN disabled_at, DROP COLUMN signed_in_at, DROP COLUMN made_by, DROP COLUMN issuer, DROP COLUMN subject;
