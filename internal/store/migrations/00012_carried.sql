-- +goose Up
-- What was on a machine that was given a secret carries it, whoever has it afterwards: by the
-- token that a resource keeps when it is kept, moved and taken over.
CREATE TABLE carried (
    token text NOT NULL,
    reference text NOT NULL,
    PRIMARY KEY (token, reference)
);
INSERT INTO carried (token, reference)
SELECT DISTINCT d.token, f.m[1] FROM resources m
    CROSS JOIN LATERAL jsonb_array_elements(CASE jsonb_typeof(m.want->'disks') WHEN 'array' THEN m.want->'disks' ELSE '[]' END) a
    JOIN resources d ON d.stack_id = m.stack_id AND d.attributes->>'id' = a->>'disk'
    CROSS JOIN LATERAL regexp_matches(m.want::text, 'secret:([a-z0-9][A-Za-z0-9_./-]*@[0-9]+)', 'g') AS f(m)
    WHERE m.type = 'instance' AND d.token <> '';

-- A token that a pipeline comes with is taken once: its hash is kept until its end.
ALTER TABLE signing_in
    DROP CONSTRAINT signing_in_kind_check,
    ADD CONSTRAINT signing_in_kind_check CHECK (kind IN ('browser', 'terminal', 'pipeline'));

-- +goose Down
DROP TABLE carried;
DELETE FROM signing_in WHERE kind = 'pipeline';
ALTER TABLE signing_in
    DROP CONSTRAINT signing_in_kind_check,
    ADD CONSTRAINT signing_in_kind_check CHECK (kind IN ('browser', 'terminal'));
