-- +goose Up
CREATE TABLE calls ( -- guests that report by themselves
    site       TEXT NOT NULL,
    machine    TEXT NOT NULL,
    generation INTEGER NOT NULL,
    token      TEXT NOT NULL, -- the SHA-256 of what the guest was given
    report     TEXT NOT NULL, -- JSON; empty until it has called
    sum        TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine)
);
