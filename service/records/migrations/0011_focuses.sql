-- +goose Up
-- Where people have said that the subjects of sources are: a box, or a point where it has no sides, in parts of the upright picture's
-- sides. What is taken back stays a while without one, so that nodes hear of it. Nodes read what is behind the last serial that they know.
CREATE SEQUENCE focus_serial;
CREATE TABLE focuses (
    site   text NOT NULL REFERENCES sites (name) ON DELETE CASCADE,
    lane   text NOT NULL,
    path   text NOT NULL,
    x      double precision,
    y      double precision,
    width  double precision,
    height double precision,
    serial bigint NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    by     text NOT NULL,
    PRIMARY KEY (site, lane, path)
);
CREATE UNIQUE INDEX focuses_by_serial ON focuses (serial);
CREATE TRIGGER focuses_changed AFTER INSERT OR UPDATE ON focuses
    FOR EACH STATEMENT EXECUTE FUNCTION echolane_settings_changed();
