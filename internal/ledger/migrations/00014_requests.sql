-- +goose Up
CREATE TABLE requests ( -- sheets that people have sent
    id      TEXT    NOT NULL PRIMARY KEY,
    changed INTEGER NOT NULL,
    about   TEXT    NOT NULL, -- JSON
    sum     TEXT    NOT NULL DEFAULT ''
);
CREATE TABLE sheets ( -- of requests; apart, because they are large and seldom asked for
    request TEXT NOT NULL PRIMARY KEY,
    content TEXT NOT NULL, -- base64
    sum     TEXT NOT NULL DEFAULT ''
);
CREATE TABLE letters ( -- what people are told of them, until it is delivered
    id      TEXT NOT NULL PRIMARY KEY,
    request TEXT NOT NULL,
    at      TEXT NOT NULL,
    letter  TEXT NOT NULL, -- JSON
    sum     TEXT NOT NULL DEFAULT ''
);
