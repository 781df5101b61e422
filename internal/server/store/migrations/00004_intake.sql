-- +goose Up
ALTER TABLE visit RENAME TO visit_before;
ALTER INDEX visit_pkey RENAME TO visit_before_pkey;
DROP INDEX visit_site_id, visit_site_country, visit_site_place;

-- What an edition says of a range; many visits share one. The id is made of the content.
CREATE TABLE answer (
    id   uuid PRIMARY KEY,
    body json NOT NULL
);

-- Visits in the order in which they were stored, which is not that of their time.
CREATE SEQUENCE visit_arrival;

CREATE TABLE visit (
    id            uuid PRIMARY KEY, -- version 7: its time is the visit's
    arrival       bigint NOT NULL,
    time          timestamptz NOT NULL,
    site          text NOT NULL,
    path          text NOT NULL,
    referrer      text,
    referrer_host text, -- of another site
    user_agent         text,
    link          text,
    attributes    jsonb,
    marks         text[] NOT NULL,
    counted       boolean NOT NULL, -- by statistics
    -- What the questions ask of the card. The address is only what the site's privacy mode keeps.
    address       inet,
    placeholder     text, -- stands for the address
    kind          text,
    skipped     boolean NOT NULL,
    level         text NOT NULL,
    country_code  text,
    region_code   text,
    city          text,
    latitude      double precision,
    longitude     double precision,
    radius_km     double precision,
    time_zone     text,
    place         text NOT NULL, -- all of these as one text
    network       text,
    labels        text[] NOT NULL,
    language      text NOT NULL,
    week_hour     smallint, -- hours since Monday began where the visitor is
    gate          text,
    unverified    integer NOT NULL, -- hops that anybody may have written
    visitor       bigint, -- tells the visitors of a site and day apart, and nothing more
    answer        uuid NOT NULL,
    card          json NOT NULL, -- without its answer
    trail         json NOT NULL,
    earlier       uuid[] NOT NULL DEFAULT '{}' -- the answers of older editions
) PARTITION BY RANGE (id);
CREATE INDEX visit_site ON visit (site, id);
CREATE INDEX visit_country ON visit (site, country_code, id);
CREATE INDEX visit_arrived ON visit (arrival);
CREATE INDEX visit_address ON visit (address) WHERE address IS NOT NULL;

-- The smallest id of version 7 (RFC 9562) whose time is at.
-- +goose StatementBegin
CREATE FUNCTION id_floor(at timestamptz) RETURNS uuid LANGUAGE sql IMMUTABLE STRICT AS $$
    SELECT (lpad(to_hex((extract(epoch FROM at) * 1000)::bigint), 12, '0') || '70008000000000000000')::uuid
$$;
-- +goose StatementEnd

-- Makes the partition of the week, Monday to Monday in UTC, that a time is in.
-- +goose StatementBegin
CREATE FUNCTION ensure_week(at timestamptz) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    monday timestamptz := date_trunc('week', at, 'UTC');
    name   text := 'visit_' || to_char(monday AT TIME ZONE 'UTC', 'YYYYMMDD');
BEGIN
    IF to_regclass(name) IS NULL THEN
        PERFORM pg_advisory_xact_lock(7263001); -- one service at a time
        IF NOT EXISTS (SELECT FROM pg_class WHERE oid IN (SELECT inhrelid FROM pg_inherits WHERE inhparent = 'visit'::regclass) AND relname = name) THEN
            EXECUTE format('CREATE TABLE %I (LIKE visit INCLUDING DEFAULTS INCLUDING CONSTRAINTS)', name);
            EXECUTE format('ALTER TABLE visit ATTACH PARTITION %I FOR VALUES FROM (%L) TO (%L)',
                name, id_floor(monday), id_floor(monday + interval '7 days'));
        END IF;
    END IF;
END $$;
-- +goose StatementEnd

-- Counts of visits, so that no question has to read all rows. slot is where a quarter hour (dimensions that end
-- in /q) or a day in UTC begins. 'visitors' counts distinct ones.
CREATE TABLE rollup (
    site      text NOT NULL,
    dimension text NOT NULL,
    slot      timestamptz NOT NULL,
    key       text NOT NULL,
    visits    bigint NOT NULL,
    PRIMARY KEY (site, dimension, slot, key)
) WITH (fillfactor = 80);

-- The visitors of a day, until it is over.
CREATE TABLE visitor_seen (
    site    text NOT NULL,
    day     date NOT NULL, -- in UTC
    visitor bigint NOT NULL,
    seen    timestamptz NOT NULL DEFAULT now(), -- here, which for a late visit is long after the day
    PRIMARY KEY (site, day, visitor)
);

-- The counts of the visits that a condition on the table visit picks: the one place that says how each visit counts.
-- 'all' counts every visit, those that are left out of statistics under their first mark.
-- +goose StatementBegin
CREATE FUNCTION count_where(condition text) RETURNS TABLE (site text, dimension text, slot timestamptz, key text, visits bigint)
LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN QUERY EXECUTE 'WITH every AS MATERIALIZED (
            SELECT site, counted, CASE WHEN counted THEN '''' ELSE marks[1] END AS mark, coalesce(country_code, '''') AS country, place, path,
                coalesce(referrer_host, '''') AS referrer, language, coalesce(network, '''') AS network, week_hour::text AS hour, gate, link, labels,
                date_trunc(''day'', time, ''UTC'') AS day, date_bin(''15 minutes'', time, ''2000-01-01Z'') AS quarter
            FROM visit WHERE ' || condition || '
        ), v AS (SELECT * FROM every WHERE counted)
        SELECT site, ''all/q'', quarter, mark, count(*) FROM every GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''all'', day, mark, count(*) FROM every GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''country/q'', quarter, country, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''country'', day, country, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''place'', day, place, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''path'', day, path, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''referrer'', day, referrer, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''language'', day, language, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''network'', day, network, count(*) FROM v GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''hour'', day, hour, count(*) FROM v WHERE hour IS NOT NULL GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''gate'', day, gate, count(*) FROM v WHERE gate IS NOT NULL GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''link'', day, link, count(*) FROM v WHERE link IS NOT NULL GROUP BY 1, 3, 4
        UNION ALL SELECT site, ''label'', day, label, count(*) FROM v, unnest(labels) label WHERE labels <> ''{}'' GROUP BY 1, 3, 4';
END $$;
-- +goose StatementEnd

-- Counts the rows that arrived since first, which this transaction has stored while it held the lock of arrivals.
-- +goose StatementBegin
CREATE FUNCTION count_arrived(first bigint) RETURNS void LANGUAGE sql AS $$
    INSERT INTO rollup (site, dimension, slot, key, visits)
    SELECT * FROM count_where(format('arrival >= %s', first)) ORDER BY 1, 2, 3, 4
    ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;

    WITH fresh AS (
        INSERT INTO visitor_seen (site, day, visitor)
        SELECT DISTINCT site, (time AT TIME ZONE 'UTC')::date, visitor FROM visit
        WHERE arrival >= first AND counted AND visitor IS NOT NULL ORDER BY 1, 2, 3
        ON CONFLICT DO NOTHING RETURNING site, day
    )
    INSERT INTO rollup (site, dimension, slot, key, visits)
    SELECT site, 'visitors', day::timestamp AT TIME ZONE 'UTC', '', count(*) FROM fresh GROUP BY site, day ORDER BY site, day
    ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;
$$;
-- +goose StatementEnd

-- Adds the visits with these ids to the counts, or takes them away with -1; what comes to nothing is gone.
-- +goose StatementBegin
CREATE FUNCTION count_ids(ids uuid[], sign int) RETURNS void LANGUAGE sql AS $$
    INSERT INTO rollup AS r (site, dimension, slot, key, visits)
    SELECT site, dimension, slot, key, sign * visits FROM count_where(format('id = ANY(%L::uuid[])', ids)) ORDER BY 1, 2, 3, 4
    ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = r.visits + excluded.visits;

    DELETE FROM rollup r USING count_where(format('id = ANY(%L::uuid[])', ids)) gone
    WHERE (r.site, r.dimension, r.slot, r.key) = (gone.site, gone.dimension, gone.slot, gone.key) AND r.visits = 0;
$$;
-- +goose StatementEnd

-- What the counts of a site's day in UTC would be if they were made from its rows now.
-- +goose StatementBegin
CREATE FUNCTION recount(of_site text, day timestamptz) RETURNS TABLE (dimension text, slot timestamptz, key text, visits bigint)
LANGUAGE sql STABLE AS $$
    SELECT dimension, slot, key, visits FROM count_where(format('site = %L AND id >= %L AND id < %L', of_site, id_floor(day), id_floor(day + interval '1 day')))
    UNION ALL
    SELECT 'visitors', day, '', count(DISTINCT visitor) FROM visit
    WHERE site = of_site AND id >= id_floor(day) AND id < id_floor(day + interval '1 day') AND counted
    HAVING count(DISTINCT visitor) > 0
$$;
-- +goose StatementEnd

-- Counts the distinct visitors of a site's day in UTC again, and forgets those that have no visit left.
-- +goose StatementBegin
CREATE FUNCTION recount_visitors(of_site text, day timestamptz) RETURNS void LANGUAGE sql AS $$
    DELETE FROM visitor_seen s WHERE s.site = of_site AND s.day = (recount_visitors.day AT TIME ZONE 'UTC')::date
        AND s.visitor NOT IN (SELECT visitor FROM visit WHERE site = of_site AND id >= id_floor(recount_visitors.day)
            AND id < id_floor(recount_visitors.day + interval '1 day') AND counted AND visitor IS NOT NULL);
    DELETE FROM rollup WHERE site = of_site AND dimension = 'visitors' AND slot = recount_visitors.day;
    INSERT INTO rollup SELECT of_site, dimension, slot, key, visits FROM recount(of_site, day) WHERE dimension = 'visitors';
$$;
-- +goose StatementEnd

-- What was erased, so that no queue brings it back: an id, a prefix, or an address under a salt.
CREATE TABLE tombstone (
    erased timestamptz NOT NULL,
    id     uuid,
    prefix cidr,
    salt   bytea,
    hash   bytea, -- SHA-256 of the salt and the address as text
    placeholder text
);

-- Visits that could not be stored, with the reason.
CREATE TABLE quarantine (
    id     uuid PRIMARY KEY,
    time   timestamptz NOT NULL,
    reason text NOT NULL,
    record bytea NOT NULL -- JSON of the row and its answer, or what was in the queue instead
);

-- Visits that were stored before.
-- +goose StatementBegin
DO $$
DECLARE w timestamptz;
BEGIN
    FOR w IN SELECT DISTINCT date_trunc('week', time, 'UTC') FROM visit_before LOOP
        PERFORM ensure_week(w);
    END LOOP;
END $$;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE FUNCTION before_answer(r jsonb) RETURNS text LANGUAGE sql AS $$
    SELECT json_build_object('location', r->'location', 'network', r->'network', 'evidence', '[]'::json,
        'money', '{"currency_code": null, "symbol": null, "minor_units": null, "display_digits": null}'::json,
        'edition', json_build_object('name', r->'edition', 'credits', '[]'::json))::text
$$;
-- +goose StatementEnd
CREATE TEMP TABLE before AS
SELECT v.*, json_build_object('location', card->'location', 'network', card->'network', 'evidence', card->'evidence',
    'money', card->'money', 'edition', card->'edition') AS body FROM visit_before v;
INSERT INTO answer SELECT DISTINCT ON (md5(body::text)) md5(body::text)::uuid, body FROM before;
INSERT INTO answer
SELECT DISTINCT ON (md5(b)) md5(b)::uuid, b::json FROM before, jsonb_array_elements(earlier) r, before_answer(r) b ON CONFLICT DO NOTHING;
INSERT INTO visit (id, arrival, time, site, path, referrer, referrer_host, user_agent, marks, counted, address, placeholder, kind, skipped, level,
    country_code, region_code, city, latitude, longitude, radius_km, time_zone, place, network, labels, language, week_hour, unverified, answer, card, trail, earlier)
SELECT id, nextval('visit_arrival'), time, site, path, referrer,
    nullif(lower(substring(referrer FROM '^https?://([^/:?#]+)')), lower(site)), user_agent, '{}', true, address,
    card->'address'->>'placeholder', kind, skipped, level, country_code, region_code, city, latitude, longitude, radius_km,
    card->'location'->>'time_zone',
    concat_ws(E'\x1f', CASE WHEN skipped THEN 'skipped' ELSE level END, coalesce(country_code, ''), coalesce(region_code, ''), coalesce(city, ''),
        coalesce(latitude::text, ''), coalesce(longitude::text, ''), coalesce(radius_km::text, ''), coalesce(card->'location'->>'time_zone', '')),
    nullif(concat(card->'network'->>'as_number', ' ', card->'network'->>'operator'), ' '),
    ARRAY(SELECT jsonb_array_elements_text(card->'labels')), coalesce(card->'locale'->>'language', 'en'),
    (extract(isodow FROM (left(card->'clock'->>'local_time', 19))::timestamp) - 1) * 24 + extract(hour FROM (left(card->'clock'->>'local_time', 19))::timestamp),
    unverified, md5(body::text)::uuid,
    json_build_object('address', card->'address', 'labels', card->'labels', 'locale', card->'locale', 'clock', card->'clock'), trail,
    ARRAY(SELECT md5(before_answer(r))::uuid FROM jsonb_array_elements(earlier) WITH ORDINALITY e(r, n) ORDER BY n)
FROM before ORDER BY id;
SELECT count_arrived(0);
DROP FUNCTION before_answer;
DROP TABLE before;
DROP TABLE visit_before;

-- +goose Down
DROP TABLE visit, answer, rollup, visitor_seen, tombstone, quarantine CASCADE;
DROP SEQUENCE visit_arrival;
DROP FUNCTION id_floor, ensure_week, count_where, count_arrived, count_ids, recount_visitors, recount;
