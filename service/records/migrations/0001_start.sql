-- +goose Up
-- A site is one document (core/policy.Document), so that a change of it is whole or not at all.
CREATE TABLE sites (
    name       text PRIMARY KEY CHECK (name ~ '^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$'),
    version    bigint NOT NULL,              -- counts up with every change, and goes on where a removed site stopped
    document   jsonb NOT NULL,
    made_at    timestamptz NOT NULL DEFAULT now(),
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- Every change of every site, also of sites that are gone.
CREATE TABLE site_changes (
    site     text NOT NULL,
    version  bigint NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    by       text NOT NULL,                  -- who
    what     text NOT NULL,                  -- in words
    document jsonb,                          -- as it was after the change; null: removed
    PRIMARY KEY (site, version)
);

-- Credentials, request headers and signing keys, sealed with the key in the environment.
CREATE TABLE secrets (
    site    text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    name    text NOT NULL,                   -- key/ID, lane/NAME/credentials, lane/NAME/header/FIELD
    sealed  bytea NOT NULL,
    made_at timestamptz NOT NULL DEFAULT now(),
    made_by text NOT NULL,
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

-- What a site used in a month (UTC), over all nodes.
CREATE TABLE usage (
    site         text NOT NULL,
    month        date NOT NULL,
    requests     bigint NOT NULL DEFAULT 0,
    renders      bigint NOT NULL DEFAULT 0,
    bytes_served bigint NOT NULL DEFAULT 0,
    bytes_stored bigint NOT NULL DEFAULT 0,
    PRIMARY KEY (site, month)
);

CREATE TABLE refusals (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site     text NOT NULL,                  -- '' where no site was found
    reason   text NOT NULL,
    asked    text NOT NULL,                  -- what was asked, in few words
    count    bigint NOT NULL,
    first_at timestamptz NOT NULL,
    last_at  timestamptz NOT NULL,
    sample   text NOT NULL,                  -- the address of the latest
    refusal  jsonb NOT NULL,                 -- the latest, whole
    UNIQUE (site, reason, asked)
);

CREATE TABLE people (
    id       bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name     text NOT NULL UNIQUE,
    password text NOT NULL,                  -- argon2id, in PHC string format
    may      text NOT NULL CHECK (may IN ('read', 'edit', 'own')),
    sites    text[] NOT NULL DEFAULT '{}',   -- none: all
    made_at  timestamptz NOT NULL DEFAULT now(),
    made_by  text NOT NULL
);

CREATE TABLE sessions (
    hash    bytea PRIMARY KEY,               -- SHA-256 of the cookie
    person  bigint NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    made_at timestamptz NOT NULL DEFAULT now(),
    used_at timestamptz NOT NULL DEFAULT now(),
    ends_at timestamptz NOT NULL
);

CREATE TABLE tokens (
    id      bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name    text NOT NULL,
    hash    bytea NOT NULL UNIQUE,           -- SHA-256 of the token
    may     text NOT NULL CHECK (may IN ('read', 'edit', 'own')),
    sites   text[] NOT NULL DEFAULT '{}',    -- none: all
    made_at timestamptz NOT NULL DEFAULT now(),
    made_by text NOT NULL,
    used_at timestamptz
);

-- One-time links: each makes the first owner, or signs one person in.
CREATE TABLE links (
    hash    bytea PRIMARY KEY,
    person  text NOT NULL,                   -- '' makes the first owner
    ends_at timestamptz NOT NULL
);

-- Failed tries at signing in, so that every node slows them down.
CREATE TABLE tries (
    who    text PRIMARY KEY,                 -- a name or a client's address
    failed integer NOT NULL,
    until  timestamptz NOT NULL              -- before this the next try isn't looked at
);

-- What all nodes of this database share: how they recognise requests that came through themselves.
CREATE TABLE deployment (id text PRIMARY KEY);
INSERT INTO deployment VALUES (substr(md5(random()::text || clock_timestamp()::text), 1, 12));

-- +goose StatementBegin
CREATE FUNCTION echolane_settings_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    PERFORM pg_notify('echolane_settings', TG_TABLE_NAME);
    RETURN NULL;
END $$;
-- +goose StatementEnd

CREATE TRIGGER sites_changed AFTER INSERT OR UPDATE OR DELETE OR TRUNCATE ON sites
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
CREATE TRIGGER secrets_changed AFTER INSERT OR UPDATE OR DELETE OR TRUNCATE ON secrets
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
