-- +goose Up
CREATE TABLE sites (
    name          text PRIMARY KEY CHECK (name ~ '^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$'),
    defaults      text NOT NULL,             -- declarations in address form
    formats       text NOT NULL,             -- in order, separated by commas
    source_bytes  bigint NOT NULL CHECK (source_bytes > 0),
    source_pixels bigint NOT NULL CHECK (source_pixels > 0),
    render_ms     integer NOT NULL CHECK (render_ms > 0),
    made_at       timestamptz NOT NULL DEFAULT now()
);

CREATE TABLE lanes (
    site    text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    name    text NOT NULL CHECK (name ~ '^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$'),
    kind    text NOT NULL CHECK (kind IN ('folder')),
    folder  text NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site, name)
);

-- One row a variant that was made; what is kept of it in caches may be gone.
CREATE TABLE variants (
    key           text PRIMARY KEY,
    site          text NOT NULL,
    lane          text NOT NULL,
    path          text NOT NULL,
    declarations  text NOT NULL,             -- the resolved form
    format        text NOT NULL,
    width         integer NOT NULL,
    height        integer NOT NULL,
    bytes         bigint NOT NULL,
    source_digest text NOT NULL,
    source_bytes  bigint NOT NULL,
    render_ms     real NOT NULL,
    made_at       timestamptz NOT NULL DEFAULT now(),
    times_made    bigint NOT NULL DEFAULT 1
);
CREATE INDEX variants_by_source ON variants (site, lane, path);

-- +goose StatementBegin
CREATE FUNCTION echolane_settings_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('echolane_settings', TG_TABLE_NAME);
    RETURN NULL;
END $$;
-- +goose StatementEnd

CREATE TRIGGER sites_changed AFTER INSERT OR UPDATE OR DELETE OR TRUNCATE ON sites
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
CREATE TRIGGER lanes_changed AFTER INSERT OR UPDATE OR DELETE OR TRUNCATE ON lanes
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
