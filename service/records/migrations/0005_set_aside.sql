-- +goose Up
-- Sources over which render workers have died, by their bytes: nothing is made of them until somebody clears them, and a
-- changed source isn't among them.
CREATE TABLE set_aside (
    site    text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    digest  text NOT NULL,
    lane    text NOT NULL,
    path    text NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    workers integer NOT NULL,                -- that died
    how     text NOT NULL,                   -- how the last one ended
    words   text NOT NULL,                   -- what it said last
    call    integer,                         -- the system call that it was ended for
    asked   text NOT NULL,                   -- the declarations that it worked on
    PRIMARY KEY (site, digest)
);
CREATE INDEX set_aside_by_time ON set_aside (at);
CREATE TRIGGER set_aside_changed AFTER INSERT OR UPDATE OR DELETE ON set_aside
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
