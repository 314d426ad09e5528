-- +goose Up
-- Which node makes what now, so that it is made once. A node that ends leaves its leases to run out.
CREATE UNLOGGED TABLE leases (
    key     text PRIMARY KEY,
    holder  text NOT NULL,
    ends_at timestamptz NOT NULL,
    awaited boolean NOT NULL DEFAULT false   -- others wait for it to end
);
