-- +goose Up
ALTER TABLE templates ADD COLUMN parts jsonb NOT NULL DEFAULT '[]', ADD COLUMN origin text NOT NULL DEFAULT '';
ALTER TABLE stacks ADD COLUMN template_parts jsonb NOT NULL DEFAULT '[]', ADD COLUMN found jsonb NOT NULL DEFAULT '{}', ADD COLUMN reads jsonb NOT NULL DEFAULT '{}';
CREATE TABLE libraries (
    name text PRIMARY KEY,
    place text NOT NULL, -- a folder, or the URL of a git repository
    reference text NOT NULL DEFAULT '', -- branch, tag or commit
    folder text NOT NULL DEFAULT '', -- within the repository
    revision text NOT NULL DEFAULT '', -- commit that was read last
    problem text NOT NULL DEFAULT '',
    added_at timestamptz NOT NULL DEFAULT now(),
    refreshed_at timestamptz
);
