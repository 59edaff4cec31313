-- +goose Up
CREATE TABLE origins ( -- machines whose identity or data disks bear the name of another
    site    TEXT NOT NULL,
    machine TEXT NOT NULL,
    origin  TEXT NOT NULL, -- JSON
    sum     TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, machine)
);
