-- +goose Up
CREATE TABLE claims ( -- which run works on a machine
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    run     TEXT NOT NULL,
    sum     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine)
);
INSERT INTO claims (site, machine, run) SELECT site, machine, run FROM leases;
DROP TABLE leases;
