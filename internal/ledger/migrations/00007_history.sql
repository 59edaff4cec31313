-- +goose Up
CREATE INDEX history_machine ON history (machine);
