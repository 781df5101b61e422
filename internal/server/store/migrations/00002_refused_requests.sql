-- +goose Up

-- Requests that were refused before anything was made of them, by slots of five minutes, and of an hour when they are
-- older. detail is what was asked with: an origin, how a key begins, a host. Nothing here is of a visitor.
CREATE TABLE refused_request (
    kind   text NOT NULL,
    site   text NOT NULL, -- '' where it is not known
    detail text NOT NULL,
    slot   timestamptz NOT NULL,
    n      bigint NOT NULL,
    PRIMARY KEY (kind, site, detail, slot)
);

-- The last one of each.
CREATE TABLE refused_example (
    kind   text NOT NULL,
    site   text NOT NULL,
    detail text NOT NULL,
    first  timestamptz NOT NULL, -- of those that are kept
    body   jsonb NOT NULL,
    PRIMARY KEY (kind, site, detail)
);
