-- +goose Up
CREATE TABLE entries ( -- of machines in the systems around them, also those that may be there
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    entered TEXT NOT NULL, -- JSON
    sum     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine)
);
CREATE TABLE outbox ( -- what others are to be told
    id      TEXT    NOT NULL PRIMARY KEY,
    notice  TEXT    NOT NULL,
    event   TEXT    NOT NULL,
    site    TEXT    NOT NULL,
    machine TEXT    NOT NULL,
    run     TEXT    NOT NULL,
    at      TEXT    NOT NULL,
    data    TEXT    NOT NULL, -- JSON
    tries   INTEGER NOT NULL,
    tried   TEXT    NOT NULL,
    error   TEXT    NOT NULL,
    sum     TEXT    NOT NULL DEFAULT ''
);
CREATE TABLE taken ( -- what others have answered about machines
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    name    TEXT NOT NULL,
    value   TEXT NOT NULL,
    sum     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine, name)
);
