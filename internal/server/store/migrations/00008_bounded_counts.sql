-- +goose Up
-- There may be answers that no visit shares any more.
ALTER TABLE installation ADD loose_answers boolean NOT NULL DEFAULT false;
-- How often the corrections have changed, for instances that have read them before.
ALTER TABLE installation ADD corrections bigint NOT NULL DEFAULT 0;
-- +goose StatementBegin
CREATE FUNCTION corrections_changed() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    UPDATE installation SET corrections = corrections + 1;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER corrections_changed AFTER INSERT OR UPDATE OR DELETE ON correction FOR EACH STATEMENT EXECUTE FUNCTION corrections_changed();

-- What visitors and pages name themselves: paths, referrers, languages and links. Whoever has a page key may make up any
-- number of them, so of each day and site only the most frequent are counted by name, and the rest under chr(2).
-- +goose StatementBegin
CREATE FUNCTION is_named(dimension text) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$
    SELECT dimension IN ('path', 'referrer', 'language', 'link')
$$;
-- +goose StatementEnd

-- Where a day has more than 2,000 names of one dimension, leaves the 1,000 most frequent.
-- +goose StatementBegin
CREATE FUNCTION bound_names(of_site text, of_dimension text, of_slot timestamptz) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    IF (SELECT count(*) FROM (SELECT FROM rollup WHERE site = of_site AND dimension = of_dimension AND slot = of_slot LIMIT 2001) n) <= 2000 THEN
        RETURN;
    END IF;
    WITH gone AS (
        DELETE FROM rollup WHERE site = of_site AND dimension = of_dimension AND slot = of_slot AND key <> chr(2) AND key NOT IN (
            SELECT key FROM rollup WHERE site = of_site AND dimension = of_dimension AND slot = of_slot AND key <> chr(2)
            ORDER BY visits DESC, key LIMIT 1000)
        RETURNING visits
    )
    INSERT INTO rollup (site, dimension, slot, key, visits) SELECT of_site, of_dimension, of_slot, chr(2), sum(visits) FROM gone
    ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;
END $$;
-- +goose StatementEnd

-- Counts the rows that arrived since first, which this transaction has stored while it held the lock of arrivals.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_arrived(first bigint) RETURNS void LANGUAGE plpgsql AS $$
DECLARE grown record;
BEGIN
    FOR grown IN
        WITH done AS (
            INSERT INTO rollup (site, dimension, slot, key, visits)
            SELECT * FROM count_where(format('arrival >= %s', first)) ORDER BY 1, 2, 3, 4
            ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits
            RETURNING site, dimension, slot, xmax = 0 AS fresh
        )
        SELECT DISTINCT site, dimension, slot FROM done WHERE fresh AND is_named(dimension)
    LOOP
        PERFORM bound_names(grown.site, grown.dimension, grown.slot);
    END LOOP;

    WITH fresh AS (
        INSERT INTO visitor_seen (site, day, visitor)
        SELECT DISTINCT site, (time AT TIME ZONE 'UTC')::date, visitor FROM visit
        WHERE arrival >= first AND counted AND visitor IS NOT NULL ORDER BY 1, 2, 3
        ON CONFLICT DO NOTHING RETURNING site, day
    )
    INSERT INTO rollup (site, dimension, slot, key, visits)
    SELECT site, 'visitors', day::timestamp AT TIME ZONE 'UTC', '', count(*) FROM fresh GROUP BY site, day ORDER BY site, day
    ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;
END $$;
-- +goose StatementEnd

-- Adds the visits with these ids to the counts, or takes them away with -1; what comes to nothing is gone. What is taken
-- away and is not counted by its name was counted among the others.
-- +goose StatementBegin
CREATE OR REPLACE FUNCTION count_ids(ids uuid[], sign int) RETURNS void LANGUAGE plpgsql AS $$
DECLARE grown record;
BEGIN
    FOR grown IN
        WITH change AS MATERIALIZED (
            SELECT g.*, CASE WHEN sign < 0 AND is_named(g.dimension) THEN least(g.visits, coalesce(r.visits, 0)) ELSE g.visits END AS by_name
            FROM count_where(format('id = ANY(%L::uuid[])', ids)) g LEFT JOIN rollup r USING (site, dimension, slot, key)
        ), summed AS (
            SELECT site, dimension, slot, key, sum(visits) AS visits FROM (
                SELECT site, dimension, slot, key, by_name AS visits FROM change WHERE by_name > 0
                UNION ALL SELECT site, dimension, slot, chr(2), visits - by_name FROM change WHERE visits > by_name
            ) c GROUP BY 1, 2, 3, 4
        ), done AS (
            INSERT INTO rollup AS r (site, dimension, slot, key, visits)
            SELECT site, dimension, slot, key, sign * visits FROM summed ORDER BY 1, 2, 3, 4
            ON CONFLICT (site, dimension, slot, key) DO UPDATE SET visits = r.visits + excluded.visits
            RETURNING site, dimension, slot, xmax = 0 AS fresh
        )
        SELECT site, dimension, slot, bool_or(fresh) AND is_named(dimension) AS named FROM done GROUP BY 1, 2, 3
    LOOP
        DELETE FROM rollup r WHERE (r.site, r.dimension, r.slot) = (grown.site, grown.dimension, grown.slot) AND r.visits = 0;
        IF grown.named THEN
            PERFORM bound_names(grown.site, grown.dimension, grown.slot);
        END IF;
    END LOOP;
END $$;
-- +goose StatementEnd

-- What differs between the counts of a site's day in UTC and its rows. Where not all names are counted, those that are
-- may have fewer visits than rows, and all of them together as many.
-- +goose StatementBegin
CREATE FUNCTION miscounted(of_site text, day timestamptz) RETURNS TABLE (dimension text, slot timestamptz, key text, counted bigint, "rows" bigint)
LANGUAGE sql STABLE AS $$
    WITH r AS MATERIALIZED (SELECT * FROM recount(of_site, day)),
    c AS MATERIALIZED (SELECT x.dimension, x.slot, x.key, x.visits FROM rollup x WHERE x.site = of_site AND x.slot >= day AND x.slot < day + interval '1 day'),
    bounded AS (SELECT c.dimension, c.slot FROM c WHERE c.key = chr(2)),
    both_of AS (
        SELECT dimension, slot, key, coalesce(c.visits, 0) AS counted, coalesce(r.visits, 0) AS there, (dimension, slot) IN (SELECT * FROM bounded) AS part
        FROM r FULL JOIN c USING (dimension, slot, key)
    )
    SELECT dimension, slot, key, counted, there FROM both_of WHERE counted <> there AND NOT part
    UNION ALL SELECT dimension, slot, key, counted, there FROM both_of WHERE part AND key <> chr(2) AND counted > there
    UNION ALL SELECT dimension, slot, chr(2), sum(counted)::bigint, sum(there)::bigint FROM both_of WHERE part GROUP BY 1, 2 HAVING sum(counted) <> sum(there)
    ORDER BY 1, 2, 3
$$;
-- +goose StatementEnd

-- +goose Down
DROP TRIGGER corrections_changed ON correction;
DROP FUNCTION corrections_changed;
ALTER TABLE installation DROP loose_answers, DROP corrections;
DROP FUNCTION miscounted, bound_names, is_named;
