-- +goose Up
ALTER TABLE claims ADD COLUMN uses TEXT NOT NULL DEFAULT ''; -- JSON: what quotas count for the machine while its run works on it
