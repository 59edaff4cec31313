-- +goose Up
CREATE TABLE kept ( -- machines that were retired without their disks
    site       TEXT NOT NULL,
    machine    TEXT NOT NULL,
    generation INTEGER NOT NULL,
    disks      TEXT NOT NULL, -- a JSON array of their names at the site
    run        TEXT NOT NULL,
    since      TEXT NOT NULL,
    PRIMARY KEY (site, machine, generation)
);
