-- +goose Up
-- Values that somebody gave in the middle of a run, by input.
ALTER TABLE runs ADD COLUMN given jsonb NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE runs DROP COLUMN given;
