-- +goose Up
-- What was kept before a purge isn't given any more. The rules stay; what they concern is cleared away behind them.
CREATE TABLE purges (
    serial   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site     text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    lane     text NOT NULL DEFAULT '',
    path     text NOT NULL DEFAULT '',       -- a source, or all below it where it ends in a slash
    class    text NOT NULL DEFAULT '',
    keys     text NOT NULL DEFAULT '',       -- of variants, separated by spaces
    address  text NOT NULL DEFAULT '',       -- of the image whose variants those are
    at       timestamptz NOT NULL DEFAULT now(),
    by       text NOT NULL,
    variants bigint NOT NULL,                -- that were kept then
    bytes    bigint NOT NULL,
    cleared  bigint NOT NULL DEFAULT 0,      -- rows that were cleared away
    done_at  timestamptz
);
CREATE INDEX purges_by_site ON purges (site, serial DESC);
CREATE TRIGGER purges_changed AFTER INSERT ON purges FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();

ALTER TABLE made_variants
    ADD COLUMN class   text NOT NULL DEFAULT '',           -- the classes that its request named, separated by spaces
    ADD COLUMN asked   bigint NOT NULL DEFAULT 0,          -- times that it was answered with
    ADD COLUMN used_at timestamptz NOT NULL DEFAULT now(); -- when last
CREATE INDEX made_variants_by_key ON made_variants (key);
CREATE INDEX made_variants_by_use ON made_variants (used_at);
