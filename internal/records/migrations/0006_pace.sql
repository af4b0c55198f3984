-- +goose Up
-- How long the steps of a source's workspaces took, also of those that are gone.
CREATE TABLE step_times (
    source text NOT NULL,
    step text NOT NULL,
    last bigint NOT NULL,         -- milliseconds, the last time that it was done
    mean bigint NOT NULL,         -- of all times, the later ones weighing more
    PRIMARY KEY (source, step)
);
INSERT INTO step_times (source, step, last, mean)
    SELECT DISTINCT ON (w.source, s.name) w.source, s.name, millis, millis
    FROM steps s JOIN runs r ON r.id = s.run JOIN workspaces w ON w.id = r.workspace,
        LATERAL (SELECT (extract(epoch FROM s.ended - s.started) * 1000)::bigint AS millis) took
    WHERE s.state = 'done' AND millis IS NOT NULL ORDER BY w.source, s.name, s.ended DESC;

ALTER TABLE workspaces ADD COLUMN planned bigint NOT NULL DEFAULT 0; -- how often the plan was changed
UPDATE workspaces SET planned = 1 WHERE plan IS NOT NULL;

-- +goose Down
ALTER TABLE workspaces DROP COLUMN planned;
DROP TABLE step_times;
