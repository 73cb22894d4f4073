-- +goose Up
-- An account whose machines no packets of ours reach: checks that would go to them are not
-- asked, and evidence says so.
ALTER TABLE accounts ADD COLUMN unreached boolean NOT NULL DEFAULT false;
ALTER TABLE evidence ADD COLUMN unasked boolean NOT NULL DEFAULT false;

-- +goose Down
ALTER TABLE evidence DROP COLUMN unasked;
ALTER TABLE accounts DROP COLUMN unreached;
