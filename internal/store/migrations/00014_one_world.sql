-- +goose Up
-- What carries the mark of a stack in the cloud and was recorded nowhere is newer than the
-- records. It is listed with what is kept until a person records it or removes it.
ALTER TABLE kept
    ADD COLUMN found_at timestamptz,
    ADD COLUMN chosen_at timestamptz; -- of several with one name the one that is taken over

CREATE INDEX steps_token ON steps (token);

-- +goose Down
DROP INDEX steps_token;
ALTER TABLE kept DROP COLUMN found_at, DROP COLUMN chosen_at;
