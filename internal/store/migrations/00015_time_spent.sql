-- +goose Up
-- Patience is time that was spent, as whoever carries a run out counts it: neither a clock that
-- jumps nor a service that was away costs any.
ALTER TABLE steps
    ADD COLUMN spent_ms bigint NOT NULL DEFAULT 0,
    ADD COLUMN settle_spent_ms bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE steps DROP COLUMN spent_ms, DROP COLUMN settle_spent_ms;
