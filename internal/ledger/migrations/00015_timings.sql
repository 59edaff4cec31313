-- +goose Up
CREATE TABLE timings ( -- how long the steps of machines took that are finished, whose journal is closed
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    what    TEXT NOT NULL, -- that was done to it, as in the history
    at      TEXT NOT NULL,
    steps   TEXT NOT NULL, -- each with when it began and when it ended, all with a blank between
    sum     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine, what)
);
INSERT INTO timings (site, machine, what, at, steps)
    SELECT s.site, s.machine, 'made', MAX(s.ended), string_agg(s.step || ' ' || s.began || ' ' || s.ended, ' ')
    FROM steps s JOIN machines m ON m.site = s.site AND m.name = s.machine AND m.generation = s.generation AND m.run = s.run
    WHERE m.state = 'made' AND s.state = 'done' AND s.step <> 'stop' AND s.ended <> '' GROUP BY s.site, s.machine;
DELETE FROM steps WHERE state = 'done' AND step <> 'stop' AND EXISTS (SELECT 1 FROM machines m
    WHERE m.site = steps.site AND m.name = steps.machine AND m.generation = steps.generation AND m.run = steps.run AND m.state = 'made');
