-- +goose Up
-- What was found in sources that were looked at, to find them by.
CREATE TABLE looked_at (
    site      text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    lane      text NOT NULL,
    path      text NOT NULL,
    digest    text NOT NULL,
    type      text NOT NULL,
    width     integer NOT NULL,
    height    integer NOT NULL,
    bytes     bigint NOT NULL,
    frames    integer NOT NULL,
    faces     integer NOT NULL,
    kind      text NOT NULL,             -- photograph, graphic or drawing
    sharpness double precision NOT NULL, -- 0–1
    lettered  boolean NOT NULL,
    colours   text NOT NULL,             -- words for the main ones, the largest first, separated by spaces
    at        timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (site, lane, path)
);
CREATE INDEX looked_at_by_time ON looked_at (at);
