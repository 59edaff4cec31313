-- +goose Up
ALTER TABLE reservations ADD COLUMN standing TEXT NOT NULL DEFAULT 'in use';
ALTER TABLE reservations ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE reservations ADD COLUMN until TEXT NOT NULL DEFAULT ''; -- empty: for ever

CREATE TABLE history (
    id        TEXT NOT NULL PRIMARY KEY,
    at        TEXT NOT NULL,
    run       TEXT NOT NULL DEFAULT '',
    user_name TEXT NOT NULL DEFAULT '',
    host_name TEXT NOT NULL DEFAULT '',
    site      TEXT NOT NULL DEFAULT '',
    machine   TEXT NOT NULL DEFAULT '',
    what      TEXT NOT NULL, -- begun, made, retired, held, ...
    detail    TEXT NOT NULL DEFAULT ''
);
CREATE INDEX history_by_machine ON history (site, machine);
