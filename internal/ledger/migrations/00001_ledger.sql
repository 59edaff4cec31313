-- +goose Up
CREATE TABLE about (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
);

CREATE TABLE runs (
    id        TEXT PRIMARY KEY,
    command   TEXT NOT NULL,
    user_name TEXT NOT NULL,
    host_name TEXT NOT NULL,
    sheet     TEXT NOT NULL, -- digest of what was read
    setup     TEXT NOT NULL,
    started   TEXT NOT NULL,
    ended     TEXT NOT NULL DEFAULT '',
    outcome   TEXT NOT NULL DEFAULT ''
);

CREATE TABLE machines (
    site       TEXT NOT NULL,
    name       TEXT NOT NULL,
    generation INTEGER NOT NULL,
    state      TEXT NOT NULL, -- making, made
    spec       TEXT NOT NULL, -- of the clone that is there or being made
    host       TEXT NOT NULL DEFAULT '',
    store      TEXT NOT NULL DEFAULT '',
    host_key   TEXT NOT NULL DEFAULT '', -- the public one
    run        TEXT NOT NULL,
    changed    TEXT NOT NULL,
    PRIMARY KEY (site, name)
);

CREATE TABLE reservations (
    network TEXT NOT NULL,
    address TEXT NOT NULL,
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    adapter INTEGER NOT NULL,
    pool    TEXT NOT NULL DEFAULT '',
    since   TEXT NOT NULL,
    PRIMARY KEY (network, address)
);
CREATE INDEX reservations_by_machine ON reservations (site, machine);

CREATE TABLE secrets (
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    name    TEXT NOT NULL,
    sealed  TEXT NOT NULL,
    PRIMARY KEY (site, machine, name)
);

CREATE TABLE steps (
    site       TEXT NOT NULL,
    machine    TEXT NOT NULL,
    generation INTEGER NOT NULL,
    step       TEXT NOT NULL,
    input      TEXT NOT NULL, -- digest of what the step was given
    state      TEXT NOT NULL, -- begun, done, failed
    error      TEXT NOT NULL DEFAULT '',
    run        TEXT NOT NULL,
    began      TEXT NOT NULL,
    ended      TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine, generation, step)
);
