-- +goose Up
-- Weigh-ins are jobs of all nodes: what was asked is kept until one has come to its end.

ALTER TABLE weighings
    ADD COLUMN ask    bytea,                          -- what is to be weighed, until it is done
    ADD COLUMN held   boolean NOT NULL DEFAULT false, -- a node is at it
    ADD COLUMN turn   integer NOT NULL DEFAULT 1,     -- counts the nodes that had it
    ADD COLUMN losses integer NOT NULL DEFAULT 0;     -- of them, those that ended without a word
CREATE INDEX weighings_running ON weighings (id) WHERE state = 'running';
