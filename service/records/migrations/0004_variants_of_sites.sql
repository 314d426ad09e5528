-- +goose Up
-- A variant that two sites or two paths share has a row for each. The table before it, variants, stays for nodes of the
-- version before; nodes of this one only prune it. No index holds more than one long text.
CREATE TABLE made_variants (
    site          text NOT NULL,
    lane          text NOT NULL,
    path          text NOT NULL,
    key           text NOT NULL,
    declarations  text NOT NULL,             -- the resolved form
    format        text NOT NULL,
    width         integer NOT NULL,
    height        integer NOT NULL,
    bytes         bigint NOT NULL,
    source_digest text NOT NULL,
    source_bytes  bigint NOT NULL,
    render_ms     real NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    times_made    bigint NOT NULL DEFAULT 1,
    PRIMARY KEY (site, lane, path, key)
);
CREATE INDEX made_variants_by_time ON made_variants (made_at);
INSERT INTO made_variants (site, lane, path, key, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms, made_at, times_made)
    SELECT site, lane, path, key, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms, made_at, times_made FROM variants
    WHERE octet_length(path) <= 2000;
CREATE INDEX variants_by_time ON variants (made_at);
CREATE INDEX class_uses_by_age ON class_uses (at);
