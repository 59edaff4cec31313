-- +goose Up
ALTER TABLE machines ADD COLUMN earlier TEXT NOT NULL DEFAULT ''; -- JSON: the clone that an open remake is to replace
UPDATE machines SET earlier = '{"generation":0,"spec":{},"removal":true}' WHERE state = 'making' AND generation > 1;
UPDATE steps SET run = COALESCE((SELECT m.run FROM machines m WHERE m.site = steps.site AND m.name = steps.machine AND m.state = 'made' AND m.generation = steps.generation), run);
CREATE INDEX steps_open ON steps (site, machine) WHERE state <> 'done' OR step = 'stop';

CREATE TABLE orders ( -- the machines that a run was to work on
    run     TEXT NOT NULL,
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    PRIMARY KEY (run, site, machine)
);

CREATE TABLE spent ( -- the last generation of machines that were retired: no later one has its identity
    site       TEXT NOT NULL,
    machine    TEXT NOT NULL,
    generation INTEGER NOT NULL,
    PRIMARY KEY (site, machine)
);

-- Of a ledger in a file: a checksum of each row, kept by triggers.
ALTER TABLE about ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE machines ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE reservations ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE secrets ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE steps ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE history ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE leases ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE kept ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE orders ADD COLUMN sum TEXT NOT NULL DEFAULT '';
ALTER TABLE spent ADD COLUMN sum TEXT NOT NULL DEFAULT '';
