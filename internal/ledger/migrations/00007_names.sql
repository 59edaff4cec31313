-- +goose Up
CREATE INDEX machines_name ON machines (name);
CREATE INDEX steps_machine ON steps (machine);
CREATE INDEX history_machine ON history (machine);
