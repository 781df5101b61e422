-- +goose Up
-- What the owner knows better than every source.
CREATE TABLE correction (
    id            uuid PRIMARY KEY,
    range         text NOT NULL UNIQUE, -- in its one form
    do_not_locate boolean NOT NULL,
    country_code  text,
    region_code   text,
    city          text,
    latitude      double precision,
    longitude     double precision,
    radius_km     double precision,
    time_zone     text,
    note          text NOT NULL,
    made_by       text NOT NULL,
    made_at       timestamptz NOT NULL
);
-- How a visit read in the editions before the one that it reads from now.
ALTER TABLE visit ADD COLUMN earlier jsonb NOT NULL DEFAULT '[]';

-- +goose Down
DROP TABLE correction;
ALTER TABLE visit DROP COLUMN earlier;
