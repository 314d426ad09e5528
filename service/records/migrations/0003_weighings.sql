-- +goose Up
-- Pages that were weighed. The node that weighs one says so every few seconds; a row that goes quiet was left by a node that ended.
CREATE TABLE weighings (
    id        bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site      text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    page      text NOT NULL,
    state     text NOT NULL CHECK (state IN ('running', 'done', 'failed', 'stopped')),
    by        text NOT NULL,
    begun_at  timestamptz NOT NULL DEFAULT now(),
    seen_at   timestamptz NOT NULL DEFAULT now(),
    done      integer NOT NULL DEFAULT 0,
    of        integer NOT NULL DEFAULT 0,
    doing     text NOT NULL DEFAULT '',
    trouble   text NOT NULL DEFAULT '',      -- why it failed
    outcome   jsonb                          -- once it is done
);
CREATE INDEX weighings_by_site ON weighings (site, id DESC);
