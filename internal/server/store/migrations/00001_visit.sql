-- +goose Up
CREATE TABLE visit (
    id           uuid PRIMARY KEY, -- version 7: its time is the visit's
    time         timestamptz NOT NULL,
    site         text NOT NULL,
    path         text NOT NULL,
    referrer     text,
    user_agent        text,
    -- What the questions ask of the card. The address is only what the site's
    -- privacy mode keeps.
    address      inet,
    kind         text,
    skipped    boolean NOT NULL,
    level        text NOT NULL,
    country_code text,
    region_code  text,
    city         text,
    latitude     double precision,
    longitude    double precision,
    radius_km    double precision,
    unverified   integer NOT NULL, -- hops that anybody may have written
    card         jsonb NOT NULL,
    trail        jsonb NOT NULL
);
CREATE INDEX visit_site_id ON visit (site, id);
CREATE INDEX visit_site_country ON visit (site, country_code, id);
CREATE INDEX visit_site_place ON visit (site, country_code, city, id);

-- +goose Down
DROP TABLE visit;
