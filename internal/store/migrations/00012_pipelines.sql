-- +goose Up
-- A token that a pipeline comes with is taken once: its hash is kept until its end.
ALTER TABLE signing_in
    DROP CONSTRAINT signing_in_kind_check,
    ADD CONSTRAINT signing_in_kind_check CHECK (kind IN ('browser', 'terminal', 'pipeline'));

-- +goose Down
DELETE FROM signing_in WHERE kind = 'pipeline';
ALTER TABLE signing_in
    DROP CONSTRAINT signing_in_kind_check,
    ADD CONSTRAINT signing_in_kind_check CHECK (kind IN ('browser', 'terminal'));
