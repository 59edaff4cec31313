-- +goose Up
ALTER TABLE runs ADD COLUMN beat BIGINT NOT NULL DEFAULT 0; -- the database's time in ms when the run last told that it lives
ALTER TABLE reservations ADD COLUMN run TEXT NOT NULL DEFAULT ''; -- for as long as this run goes on

CREATE TABLE leases ( -- who works on a machine
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    run     TEXT NOT NULL,
    PRIMARY KEY (site, machine)
);
