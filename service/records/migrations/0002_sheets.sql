-- +goose Up
-- A site's published sheet is part of its document. This is what somebody is still working on.
CREATE TABLE sheet_drafts (
    site       text PRIMARY KEY REFERENCES sites (name) ON DELETE CASCADE,
    text       text NOT NULL,
    base       bigint NOT NULL,              -- the site's version that it was begun from
    by         text NOT NULL,
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- When a class of a sheet was last asked for, and by which address: so that none vanishes unnoticed.
CREATE TABLE class_uses (
    site    text NOT NULL,
    class   text NOT NULL,
    address text NOT NULL,
    at      timestamptz NOT NULL,
    PRIMARY KEY (site, class, address)
);
CREATE INDEX class_uses_by_time ON class_uses (site, class, at DESC);
