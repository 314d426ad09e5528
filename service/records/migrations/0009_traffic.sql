-- +goose Up
-- What was answered, by site, time and where it came from: in minutes for two days, in hours for two months.
CREATE TABLE traffic (
    site     text NOT NULL,
    step     smallint NOT NULL,              -- minutes: 1 or 60
    at       timestamptz NOT NULL,           -- when the step began
    kind     text NOT NULL,                  -- memory, disk, store, made, joined, original, refused
    requests bigint NOT NULL,
    bytes    bigint NOT NULL,
    unscaled bigint NOT NULL,                -- bytes that would have gone out of the sources themselves
    times    bigint[] NOT NULL,              -- answers by how long they took: see records.TimeBounds
    PRIMARY KEY (step, at, site, kind)
);

-- The nodes that there are, as each says of itself every few seconds.
CREATE UNLOGGED TABLE nodes (
    id       text PRIMARY KEY,
    seen_at  timestamptz NOT NULL,
    state    jsonb NOT NULL
);
