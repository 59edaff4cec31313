-- +goose Up
CREATE TABLE inspections ( -- what was found on the disks of templates
    site     TEXT NOT NULL,
    template TEXT NOT NULL, -- as the site knows it
    summary  TEXT NOT NULL, -- JSON
    sum      TEXT NOT NULL DEFAULT '',
    PRIMARY KEY (site, template)
);
