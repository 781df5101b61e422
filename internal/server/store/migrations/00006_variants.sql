-- +goose Up
-- Content variants that were made in the console; those of the configuration are not here.
CREATE TABLE variant_set (
    site    text NOT NULL,
    name    text NOT NULL,
    body    jsonb NOT NULL, -- default and rules, as the contract has them
    made_by text NOT NULL,
    made_at timestamptz NOT NULL,
    PRIMARY KEY (site, name)
);
