-- +goose Up
-- For the owner's own tools: docs/sql.md. These names and columns stay.
CREATE VIEW visit_fact AS
SELECT v.id, v.time, v.site, v.path, v.referrer, v.referrer_host, v.user_agent, v.link, v.attributes, v.marks, v.counted,
    v.address, v.placeholder, v.kind, v.skipped, v.level, v.country_code, v.region_code, v.city, v.latitude, v.longitude, v.radius_km, v.time_zone,
    CASE WHEN v.latitude IS NOT NULL THEN json_build_object('type', 'Point', 'coordinates', json_build_array(v.longitude, v.latitude)) END AS point,
    v.network, v.labels, v.language, v.week_hour, v.unverified,
    a.body->'edition'->>'name' AS edition, a.body->'location' AS location, a.body->'evidence' AS evidence, v.trail
FROM visit v JOIN answer a ON a.id = v.answer;

CREATE VIEW visit_day AS
SELECT site, (slot AT TIME ZONE 'UTC')::date AS day, dimension, key, visits FROM rollup WHERE dimension NOT LIKE '%/q';

-- What an edition says, range by range, where it was published; see locate(inet).
CREATE TABLE atlas_range (
    first          inet NOT NULL,
    last           inet NOT NULL,
    level          text NOT NULL,
    continent_code text,
    country_code   text,
    region_code    text,
    city           text,
    postal_code    text,
    latitude       double precision,
    longitude      double precision,
    radius_km      double precision,
    time_zone      text,
    as_number      bigint,
    operator       text,
    labels         text[] NOT NULL
);
CREATE INDEX ON atlas_range (first);

-- What becomes of the addresses of a prefix: the narrowest of the owner's says it, failing that the narrowest of kinds.
CREATE TABLE atlas_policy (
    prefix    cidr NOT NULL,
    own       boolean NOT NULL,
    kind      text NOT NULL,
    skipped boolean NOT NULL,
    PRIMARY KEY (prefix, own)
);
-- Which bytes of the addresses of a prefix carry one of IPv4; the narrowest says it.
CREATE TABLE atlas_embedding (
    prefix  cidr PRIMARY KEY,
    own     boolean NOT NULL,
    at      int[] NOT NULL,
    flipped boolean NOT NULL
);
CREATE TABLE atlas_label (
    prefix cidr NOT NULL,
    label  text NOT NULL
);
CREATE INDEX ON atlas_label USING gist (prefix inet_ops);
CREATE TABLE atlas_published (
    edition text NOT NULL,
    at      timestamptz NOT NULL,
    ranges  bigint NOT NULL
);

-- What the published edition says of an address, as the service does: one row, whose facts are null where they are
-- not known.
-- +goose StatementBegin
CREATE FUNCTION locate(address inet) RETURNS TABLE (
    kind text, skipped boolean, level text, continent_code text, country_code text, region_code text, city text, postal_code text,
    latitude double precision, longitude double precision, radius_km double precision, time_zone text, as_number bigint, operator text, labels text[], edition text
) LANGUAGE sql STABLE AS $$
    WITH asked AS (SELECT CASE WHEN address <<= '::ffff:0:0/96' THEN '0.0.0.0'::inet + (set_masklen(address, 128) - '::ffff:0:0'::inet) ELSE set_masklen(address, CASE family(address) WHEN 4 THEN 32 ELSE 128 END) END AS a),
    ruled AS (SELECT a, k.kind, k.skipped AS by_kind, o.skipped AS by_owner, e.own AS translated,
            CASE WHEN o.skipped IS NULL AND e.prefix IS NOT NULL THEN (
                SELECT string_agg((CASE WHEN e.flipped THEN 255 - n ELSE n END)::text, '.' ORDER BY i)::inet
                FROM (SELECT i, get_byte(inet_send(a), 4 + e.at[i]) AS n FROM generate_series(1, 4) AS i) AS byte
            ) END AS inner_address
        FROM asked
        CROSS JOIN LATERAL (SELECT x.kind, x.skipped FROM atlas_policy x WHERE NOT x.own AND x.prefix >>= a ORDER BY masklen(x.prefix) DESC LIMIT 1) k
        LEFT JOIN LATERAL (SELECT x.* FROM atlas_embedding x WHERE x.prefix >>= a ORDER BY masklen(x.prefix) DESC LIMIT 1) e ON true
        LEFT JOIN LATERAL (
            SELECT x.skipped FROM atlas_policy x
            WHERE x.own AND x.prefix >>= a AND NOT coalesce(e.own AND masklen(e.prefix) > masklen(x.prefix), false)
            ORDER BY masklen(x.prefix) DESC LIMIT 1
        ) o ON true),
    decided AS (SELECT a, r.kind, coalesce(inner_address, a) AS b,
            coalesce(by_owner, by_kind AND NOT coalesce(translated, false)) OR inner_address IS NOT NULL AND (
                SELECT x.skipped FROM atlas_policy x WHERE x.prefix >>= inner_address ORDER BY x.own DESC, masklen(x.prefix) DESC LIMIT 1) AS aside
        FROM ruled r)
    SELECT d.kind, d.aside, coalesce(r.level, 'none'), r.continent_code, r.country_code, r.region_code, r.city, r.postal_code,
        r.latitude, r.longitude, r.radius_km, r.time_zone, r.as_number, r.operator,
        own.labels || ARRAY(SELECT l FROM unnest(r.labels) WITH ORDINALITY AS u(l, i) WHERE l <> ALL (own.labels) ORDER BY i),
        (SELECT e.edition FROM atlas_published e)
    FROM decided d
    CROSS JOIN LATERAL (SELECT ARRAY(SELECT DISTINCT x.label COLLATE "C" FROM atlas_label x WHERE x.prefix >>= a ORDER BY 1) AS labels) own
    LEFT JOIN LATERAL (
        SELECT * FROM (SELECT * FROM atlas_range x WHERE x.first <= b ORDER BY x.first DESC LIMIT 1) n WHERE n.last >= b AND NOT d.aside
    ) r ON true
$$;
-- +goose StatementEnd

-- +goose Down
DROP FUNCTION locate;
DROP TABLE atlas_range, atlas_policy, atlas_embedding, atlas_label, atlas_published;
DROP VIEW visit_fact, visit_day;
