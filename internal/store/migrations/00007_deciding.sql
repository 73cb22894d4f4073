-- +goose Up
-- What a verification found altered past us, until it is put right: so that a page that is
-- opened later tells it too.
ALTER TABLE resources ADD COLUMN strayed jsonb NOT NULL DEFAULT '[]';

-- Cases that are kept beside a version, with the saved offers that they name. They are no
-- part of its bytes: cases may be added to a version that is published.
CREATE TABLE template_cases (
    template text NOT NULL,
    version text NOT NULL,
    source text NOT NULL,
    offers jsonb NOT NULL DEFAULT '{}',
    kept_at timestamptz NOT NULL DEFAULT clock_timestamp(),
    PRIMARY KEY (template, version),
    FOREIGN KEY (template, version) REFERENCES templates (name, version) ON DELETE CASCADE
);

-- +goose Down
DROP TABLE template_cases;
ALTER TABLE resources DROP COLUMN strayed;
