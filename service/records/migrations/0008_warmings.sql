-- +goose Up
-- Variants that are made ahead. Each item is a source, with what is to be made of it.
CREATE TABLE warmings (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site      text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    what      text NOT NULL,                 -- in words
    state     text NOT NULL CHECK (state IN ('running', 'paused', 'done', 'stopped')),
    by        text NOT NULL,
    begun_at  timestamptz NOT NULL DEFAULT now(),
    ended_at  timestamptz,
    queries   text NOT NULL,                 -- what is made of each item that says nothing else, a line each
    accepts   text NOT NULL,                 -- Accept fields that each is asked with, a line each
    sources   bigint NOT NULL,
    variants  bigint NOT NULL,
    made      bigint NOT NULL DEFAULT 0,
    kept      bigint NOT NULL DEFAULT 0,     -- were there already
    left_out  bigint NOT NULL DEFAULT 0,     -- were refused, or failed
    bytes     bigint NOT NULL DEFAULT 0,     -- of those that were made
    active_s  real NOT NULL DEFAULT 0,       -- while it was worked on
    worked_at timestamptz
);
CREATE INDEX warmings_by_site ON warmings (site, id DESC);
CREATE TABLE warm_items (
    warming  bigint NOT NULL REFERENCES warmings (id) ON DELETE CASCADE,
    n        integer NOT NULL,
    source   text NOT NULL,                  -- /site/lane/path, percent-encoded
    queries  text NOT NULL DEFAULT '',       -- '': those of the warming
    state    text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'taken', 'done')),
    taken_at timestamptz,
    trouble  text NOT NULL DEFAULT '',       -- why something of it was left out
    PRIMARY KEY (warming, n)
);
CREATE INDEX warm_items_open ON warm_items (warming, n) WHERE state <> 'done';
