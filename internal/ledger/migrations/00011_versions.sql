-- +goose Up
CREATE TABLE versions ( -- of templates, at each site where they were made
    template TEXT    NOT NULL,
    number   INTEGER NOT NULL,
    site     TEXT    NOT NULL,
    state    TEXT    NOT NULL, -- making, made, dropped
    about    TEXT    NOT NULL, -- JSON
    run      TEXT    NOT NULL,
    sum      TEXT    NOT NULL DEFAULT '',
    PRIMARY KEY (template, number, site)
);
