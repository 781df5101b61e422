-- +goose Up

-- Who may do what ------------------------------------------------------------------------------------------------

CREATE TABLE access_key (
    id        uuid PRIMARY KEY,
    name      text NOT NULL,
    scope     text NOT NULL,
    start     text NOT NULL, -- how the secret begins
    hash      bytea NOT NULL UNIQUE, -- SHA-256 of the secret
    sites     text[] NOT NULL,
    origins   text[] NOT NULL,
    created   timestamptz NOT NULL,
    last_used timestamptz,
    uses      bigint NOT NULL DEFAULT 0,
    revoked   timestamptz,
    -- Who made it: in words, and the key that was used, also where it opened the session.
    made_by         text NOT NULL,
    made_by_key     uuid REFERENCES access_key,
    made_by_session uuid
);
CREATE INDEX access_key_made_by ON access_key (made_by_key);
CREATE TABLE sign_in_link (
    hash    bytea PRIMARY KEY,
    expires timestamptz NOT NULL,
    used    timestamptz,
    made_by text NOT NULL DEFAULT 'the service'
);
CREATE TABLE session (
    id         uuid PRIMARY KEY,
    hash       bytea NOT NULL UNIQUE, -- SHA-256 of the cookie
    created    timestamptz NOT NULL,
    last_seen  timestamptz NOT NULL,
    expires    timestamptz NOT NULL,
    ended      timestamptz,
    how        text NOT NULL,
    user_agent text NOT NULL,
    key_id     uuid REFERENCES access_key -- that opened it
);
CREATE INDEX session_key ON session (key_id);

-- The newest lines; store.Maintain drops older ones than it keeps.
CREATE TABLE audit_log (
    id     uuid PRIMARY KEY,
    time   timestamptz NOT NULL,
    what   text NOT NULL,
    actor  text NOT NULL,
    detail text NOT NULL
);

-- What this installation is; its instances share the one row.
CREATE TABLE installation (
    only_one      boolean PRIMARY KEY DEFAULT true CHECK (only_one),
    id            uuid NOT NULL DEFAULT gen_random_uuid(), -- tells it from others
    signed_in     boolean NOT NULL DEFAULT false, -- somebody ever has
    configuration text NOT NULL DEFAULT '', -- checksum of the newest
    secret        bytea, -- what its instances sign with
    loose_keys    boolean NOT NULL DEFAULT false -- there may be keys that nothing is counted under any more
);
INSERT INTO installation DEFAULT VALUES;

-- What instances tell each other --------------------------------------------------------------------------------------

-- How often each topic was told, for an instance that was not reached.
CREATE SEQUENCE told_visits;
CREATE SEQUENCE told_documents;
CREATE SEQUENCE told_keys;
CREATE SEQUENCE told_links;
CREATE SEQUENCE told_companions;
CREATE SEQUENCE told_notices;
CREATE SEQUENCE told_leader;

-- Tells all instances that something of a topic has changed, when the transaction commits.
-- +goose StatementBegin
CREATE FUNCTION tell(topic text) RETURNS void LANGUAGE sql AS $$
    SELECT nextval(('told_' || topic)::regclass);
    SELECT pg_notify('eastporch', topic);
$$;
-- +goose StatementEnd

-- What owners write down -----------------------------------------------------------------------------------------------

-- Content variants, rules of gates and their drafts, links, companions, notices, channels and corrections: every revision of
-- each. The newest is in force; where it has no body, the document was dropped.
CREATE SEQUENCE document_change;
CREATE TABLE document (
    site     text NOT NULL, -- '' for what holds for all
    kind     text NOT NULL,
    name     text NOT NULL, -- of a link its code, of a correction its range, of rules ''
    revision bigint NOT NULL, -- 1 is the first
    change   bigint NOT NULL, -- in the order of the commits, for instances that have read those before
    newest   boolean NOT NULL,
    body     jsonb, -- as the contract has it
    changes  text[] NOT NULL, -- since the revision before, in sentences
    made_by  text NOT NULL,
    made_at  timestamptz NOT NULL,
    first_by text NOT NULL, -- who made the document
    first_at timestamptz NOT NULL,
    PRIMARY KEY (kind, site, name, revision)
);
CREATE UNIQUE INDEX document_newest ON document (kind, site, name) WHERE newest;
CREATE UNIQUE INDEX document_changes ON document (change) WHERE newest;
CREATE UNIQUE INDEX document_codes ON document (name) WHERE newest AND kind = 'link';

-- What gates decide, links and companions do --------------------------------------------------------------------------

-- What gates decided in a quarter of an hour; those who were admitted have no path.
CREATE TABLE gate_count (
    site         text NOT NULL,
    slot         timestamptz NOT NULL,
    asked        text NOT NULL, -- by whom: 'request' for proxies and applications, 'visit' for visits that were reported
    gate         text NOT NULL,
    rule         int NOT NULL, -- 0 for the end of the gate and for exceptions
    decided_by   text NOT NULL,
    outcome      text NOT NULL, -- admit, refuse, would refuse
    missing      text NOT NULL,
    country_code text NOT NULL,
    path         text NOT NULL, -- chr(2) for those that are not counted by name
    requests     bigint NOT NULL,
    PRIMARY KEY (site, slot, asked, gate, rule, decided_by, outcome, missing, country_code, path)
);
-- The newest refusals by the reference that was shown, for whoever writes to the owner.
CREATE TABLE gate_refusal (
    reference    text NOT NULL,
    time         timestamptz NOT NULL,
    site         text NOT NULL,
    gate         text NOT NULL,
    rule         int NOT NULL,
    reason       text NOT NULL,
    country_code text NOT NULL,
    path         text NOT NULL
);
CREATE INDEX gate_refusal_reference ON gate_refusal (reference);
CREATE INDEX gate_refusal_time ON gate_refusal (site, time);

-- How often links redirected, as far as it counts for their limits, and clicks that were not recorded.
CREATE TABLE link_count (
    code         text PRIMARY KEY,
    used         bigint NOT NULL,
    not_recorded bigint NOT NULL
);
CREATE VIEW link AS
SELECT d.name AS code, d.site, d.body, (d.body->>'until')::timestamptz AS ends, (d.body->>'limit')::bigint AS most, (d.body->>'disabled')::timestamptz AS disabled,
    coalesce(c.used, 0) AS used, coalesce(c.not_recorded, 0) AS not_recorded, d.first_by AS made_by, d.first_at AS made_at, d.made_at AS changed_at, d.revision
FROM document d LEFT JOIN link_count c ON c.code = d.name WHERE d.kind = 'link' AND d.newest AND d.body IS NOT NULL;
-- Codes that were asked for and that no link has, by days in UTC; chr(2) for those that are not counted by name.
CREATE TABLE link_asked (
    site     text NOT NULL,
    day      date NOT NULL,
    code     text NOT NULL,
    requests bigint NOT NULL,
    PRIMARY KEY (site, day, code)
);

-- Questions that were asked: of a day by the clock of the site, and of a minute since 1970. It outlives the
-- companion, so that making it again gives no more of them.
CREATE TABLE companion_spent (
    site            text NOT NULL,
    name            text NOT NULL,
    day             date NOT NULL,
    asked           bigint NOT NULL,
    minute          bigint NOT NULL,
    asked_in_minute bigint NOT NULL,
    PRIMARY KEY (site, name)
);

-- Notices: what has met them, and what they wrote, in the order in which it leaves.
CREATE VIEW notice AS
SELECT site, name, body, (body->'enabled')::boolean AS enabled, body->'trigger'->>'kind' AS kind FROM document WHERE kind = 'notice' AND newest AND body IS NOT NULL;
-- Whether the other side of a channel answers, since it was saved as some revision.
CREATE TABLE channel_health (
    site     text NOT NULL,
    name     text NOT NULL,
    revision bigint NOT NULL,
    body     jsonb NOT NULL,
    PRIMARY KEY (site, name)
);
CREATE TABLE notice_trigger (
    id     bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    site   text NOT NULL,
    notice text NOT NULL,
    key    text NOT NULL, -- a country, label, finding or edition
    at     timestamptz NOT NULL,
    visit  uuid,
    facts  jsonb NOT NULL DEFAULT '{}',
    times  bigint NOT NULL
);
-- What a notice has met before, so that only what is new meets it.
CREATE TABLE notice_known (
    site   text NOT NULL,
    notice text NOT NULL,
    body   jsonb NOT NULL,
    at     timestamptz NOT NULL,
    PRIMARY KEY (site, notice)
);
CREATE TABLE notice_message (
    id         uuid PRIMARY KEY,
    number     bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    site       text NOT NULL,
    notice     text NOT NULL,
    channel    text NOT NULL,
    kind       text NOT NULL, -- mail or webhook
    keys       text[] NOT NULL, -- that limits are counted by; of a test none
    visits     uuid[] NOT NULL,
    created    timestamptz NOT NULL,
    subject    text NOT NULL,
    body       text NOT NULL,
    html       text NOT NULL,
    facts      jsonb NOT NULL,
    recipients jsonb NOT NULL,
    state      text NOT NULL,
    result     text NOT NULL,
    tries      jsonb NOT NULL,
    tried      int NOT NULL,
    next_try   timestamptz NOT NULL,
    finished   timestamptz,
    test       boolean NOT NULL,
    again_of   uuid,
    sender     text NOT NULL
);
CREATE INDEX notice_message_waiting ON notice_message (site, channel, number) WHERE state = 'waiting';
CREATE INDEX notice_message_site ON notice_message (site, created);
CREATE INDEX notice_message_visits ON notice_message USING gin (visits) WHERE visits <> '{}';
-- What left a channel in the last day, for its allowance; and what limits left out.
CREATE TABLE notice_sent (
    site      text NOT NULL,
    channel   text NOT NULL,
    recipient text NOT NULL,
    at        timestamptz NOT NULL
);
CREATE INDEX notice_sent_channel ON notice_sent (site, channel, at);
CREATE TABLE notice_left_out (
    site   text NOT NULL,
    notice text NOT NULL,
    day    date NOT NULL, -- in UTC
    times  bigint NOT NULL,
    PRIMARY KEY (site, notice, day)
);
-- Who asked with an address that is not confirmed yet, and who confirmed or wants no more mails; those under a keyed hash.
CREATE TABLE notice_pending (
    id        uuid PRIMARY KEY,
    site      text NOT NULL,
    notice    text NOT NULL,
    recipient text NOT NULL,
    question  text NOT NULL,
    sender    text NOT NULL,
    created   timestamptz NOT NULL
);
CREATE TABLE notice_recipient (
    site      text NOT NULL,
    recipient bytea NOT NULL,
    confirmed boolean NOT NULL, -- false wants no more
    at        timestamptz NOT NULL,
    PRIMARY KEY (site, recipient)
);

-- Numbers that are good once, of signed headers.
CREATE TABLE used_number (
    number  text PRIMARY KEY,
    expires timestamptz NOT NULL
);

-- Visits ---------------------------------------------------------------------------------------------------------

-- What an edition says of a range; many visits share one. The id is made of the content.
CREATE TABLE edition_facts (
    id   uuid PRIMARY KEY,
    body json NOT NULL
);
-- Facts that visits which are gone were of: store.Maintain drops those that no visit shares.
CREATE TABLE loose_facts (
    id uuid PRIMARY KEY
);

-- Where visits are from, as far as it is known. There are no more than the editions and corrections have named.
CREATE TABLE place (
    id           bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    digest       uuid NOT NULL UNIQUE, -- of all that follows
    level        text NOT NULL,
    skipped      boolean NOT NULL, -- the address was never looked up
    country_code text,
    region_code  text,
    city         text,
    latitude     double precision,
    longitude    double precision,
    radius_km    double precision,
    time_zone    text,
    not_found    boolean NOT NULL DEFAULT false -- there was no address to look up
);
CREATE INDEX place_city ON place (city);
CREATE INDEX place_zone ON place (time_zone);

-- The order in which visits were stored, which is not that of their time. Batches that are stored at once share it; how far
-- all of it is there says stored_through().
CREATE SEQUENCE visit_sequence;

CREATE TABLE visit (
    id            uuid PRIMARY KEY, -- version 7: its time is the visit's
    sequence      bigint NOT NULL DEFAULT nextval('visit_sequence'),
    time          timestamptz NOT NULL,
    site          text NOT NULL,
    path          text NOT NULL,
    referrer      text,
    referrer_host text, -- of another site
    user_agent    text,
    agent         text, -- the family of the user agent
    link          text,
    destination   text, -- where a click on a link was led to
    attributes    jsonb,
    marks         text[] NOT NULL,
    counted       boolean NOT NULL, -- by statistics
    -- What the questions ask of the card. The address is only what the site's privacy mode keeps.
    address       inet,
    placeholder   text, -- stands for the address
    kind          text,
    skipped       boolean NOT NULL,
    country_code  text,
    basis         text, -- of the country
    place         bigint NOT NULL, -- an id of the table place
    network       text,
    labels        text[] NOT NULL,
    language      text NOT NULL,
    week_hour     smallint, -- hours since Monday began where the visitor is
    gate          text,
    unverified    integer NOT NULL, -- hops that anybody may have written
    visitor_hash  bigint, -- tells the visitors of a site and day apart, and nothing more
    facts         uuid NOT NULL, -- an id of edition_facts
    card          json NOT NULL, -- without its facts
    trail         json NOT NULL,
    earlier       uuid[] NOT NULL DEFAULT '{}' -- the facts of older editions
) PARTITION BY RANGE (id);
CREATE INDEX visit_site ON visit (site, id);
CREATE INDEX visit_country ON visit (site, country_code, id);
CREATE INDEX visit_sequence_number ON visit (sequence);
CREATE INDEX visit_link ON visit (site, link, id) WHERE link IS NOT NULL;
-- What erasures and maintenance ask for.
CREATE INDEX visit_address ON visit (address) WHERE address IS NOT NULL;
CREATE INDEX visit_placeholder ON visit (placeholder) WHERE placeholder IS NOT NULL;
CREATE INDEX visit_facts ON visit (facts);
CREATE INDEX visit_earlier ON visit USING gin (earlier) WHERE earlier <> '{}';

-- Says that this transaction stores visits from a sequence number on, which it gives: others must not read as far until it
-- has ended. Its lock is of no number before it.
-- +goose StatementBegin
CREATE FUNCTION begin_storing() RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE first bigint;
BEGIN
    SELECT last_value + is_called::int INTO first FROM visit_sequence;
    PERFORM pg_advisory_xact_lock_shared((x'4550'::bigint << 48) + first);
    RETURN first;
END $$;
-- +goose StatementEnd

-- The sequence number up to which all visits that will ever have one are stored. The end of the sequence is read first: a
-- transaction that took a number up to it either holds its lock still, or has ended.
-- +goose StatementBegin
CREATE FUNCTION stored_through() RETURNS bigint LANGUAGE plpgsql AS $$
DECLARE through bigint; storing bigint;
BEGIN
    SELECT last_value - 1 + is_called::int INTO through FROM visit_sequence;
    SELECT min(((classid::bigint & 65535) << 32) + objid::bigint) INTO storing FROM pg_locks
    WHERE locktype = 'advisory' AND objsubid = 1 AND classid::bigint >> 16 = x'4550'::bigint AND database = (SELECT oid FROM pg_database WHERE datname = current_database());
    RETURN least(through, storing - 1);
END $$;
-- +goose StatementEnd

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

-- Counts, so that no question has to read all rows -----------------------------------------------------------------

-- What visits are counted under: country codes, paths, referrers, languages, networks and so on. 0 is for all those that
-- are not counted by their own name, 1 for none.
CREATE TABLE count_key (
    id   bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    text text COLLATE "C" NOT NULL UNIQUE
);
INSERT INTO count_key OVERRIDING SYSTEM VALUE VALUES (0, chr(2)), (1, '');
ALTER TABLE count_key ALTER id RESTART WITH 2;

-- How many visits of a site were counted under a key from slot on, for a quarter of an hour or a day in UTC. The key is
-- one of count_key, or for the dimension place one of place. 'visitors' counts distinct ones. The clicks on a link are counted
-- a second time, for the link alone: its site is then the host and the path, as in heronlake.example/to/tickets.
CREATE TABLE rollup (
    site        text NOT NULL,
    dimension   text NOT NULL,
    granularity text NOT NULL CHECK (granularity IN ('day', 'quarter')),
    slot        timestamptz NOT NULL,
    key         bigint NOT NULL,
    visits      bigint NOT NULL,
    PRIMARY KEY (site, dimension, granularity, slot, key)
) WITH (fillfactor = 80);
CREATE INDEX rollup_links ON rollup (slot, dimension, site) WHERE strpos(site, '/') > 0;

-- The visitors of a day, until it is over; of a link too.
CREATE TABLE visitor_seen (
    site         text NOT NULL,
    day          date NOT NULL, -- in UTC
    visitor_hash bigint NOT NULL,
    seen         timestamptz NOT NULL DEFAULT now(), -- here, which for a late visit is long after the day
    PRIMARY KEY (site, day, visitor_hash)
);
CREATE INDEX visitor_seen_when ON visitor_seen USING brin (seen);

-- What a visit is counted for: its site, and where it is a click on a link, the link.
-- +goose StatementBegin
CREATE FUNCTION counted_for(site text, path text, link text) RETURNS text[] LANGUAGE sql IMMUTABLE AS $$
    SELECT CASE WHEN path = '/to/' || link THEN ARRAY[site, site || path] ELSE ARRAY[site] END
$$;
-- +goose StatementEnd

-- Whether counts are of a site or of a link of its.
-- +goose StatementBegin
CREATE FUNCTION is_of(counted text, of_site text) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$
    SELECT counted = of_site OR strpos(counted, '/') > 0 AND starts_with(counted, of_site || '/to/')
$$;
-- +goose StatementEnd

-- The counts of the visits that a condition on the table visit picks: the one place that says how each visit counts.
-- 'all' counts every visit, those that are left out of statistics under their first mark. The key is text, or of the
-- dimension place an id.
-- +goose StatementBegin
CREATE FUNCTION count_where(condition text) RETURNS TABLE (site text, dimension text, granularity text, slot timestamptz, key text, place bigint, visits bigint)
LANGUAGE plpgsql STABLE AS $$
BEGIN
    RETURN QUERY EXECUTE $sql$ WITH every AS MATERIALIZED (
            SELECT unnest(counted_for(site, path, link)) AS site, counted, CASE WHEN counted THEN '' ELSE marks[1] END AS mark, coalesce(country_code, '') AS country, coalesce(basis, '') AS basis, place, path,
                coalesce(referrer_host, '') AS referrer, language, coalesce(network, '') AS network, week_hour::text AS hour, gate, link, labels,
                coalesce(agent, '') AS agent, destination, CASE WHEN country_code IS NULL THEN placeholder END AS placeholder,
                date_trunc('day', time, 'UTC') AS day, date_bin('15 minutes', time, '2000-01-01Z') AS quarter
            FROM visit WHERE $sql$ || condition || $sql$
        ), v AS (SELECT * FROM every WHERE counted)
        SELECT site, 'all', 'quarter', quarter, mark, NULL::bigint, count(*) FROM every GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'all', 'day', day, mark, NULL::bigint, count(*) FROM every GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'country', 'quarter', quarter, country, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'country', 'day', day, country, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'basis', 'day', day, basis, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'place', 'day', day, NULL, place, count(*) FROM v GROUP BY 1, 4, 6
        UNION ALL SELECT site, 'path', 'day', day, path, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'referrer', 'day', day, referrer, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'language', 'day', day, language, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'network', 'day', day, network, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'hour', 'day', day, hour, NULL::bigint, count(*) FROM v WHERE hour IS NOT NULL GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'gate', 'day', day, gate, NULL::bigint, count(*) FROM v WHERE gate IS NOT NULL GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'link', 'day', day, link, NULL::bigint, count(*) FROM v WHERE link IS NOT NULL GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'agent', 'day', day, agent, NULL::bigint, count(*) FROM v GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'destination', 'day', day, destination, NULL::bigint, count(*) FROM v WHERE destination IS NOT NULL AND strpos(site, '/') > 0 GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'placeholder', 'day', day, placeholder, NULL::bigint, count(*) FROM v WHERE placeholder IS NOT NULL GROUP BY 1, 4, 5
        UNION ALL SELECT site, 'label', 'day', day, label, NULL::bigint, count(*) FROM v, unnest(labels) label WHERE labels <> '{}' GROUP BY 1, 4, 5 $sql$;
END $$;
-- +goose StatementEnd

-- The same with the ids of keys; what has none yet gets one, in one order, so that no two transactions wait for each other.
-- +goose StatementBegin
CREATE FUNCTION keyed_counts(condition text) RETURNS TABLE (site text, dimension text, granularity text, slot timestamptz, key bigint, visits bigint)
LANGUAGE plpgsql AS $$
#variable_conflict use_column
BEGIN
    CREATE TEMP TABLE IF NOT EXISTS counting (site text, dimension text, granularity text, slot timestamptz, key text, place bigint, visits bigint) ON COMMIT DELETE ROWS;
    DELETE FROM counting;
    INSERT INTO counting SELECT * FROM count_where(condition);
    INSERT INTO count_key (text) SELECT DISTINCT c.key FROM counting c WHERE c.key IS NOT NULL AND NOT EXISTS (SELECT FROM count_key k WHERE k.text = c.key) ORDER BY 1
    ON CONFLICT DO NOTHING;
    RETURN QUERY SELECT c.site, c.dimension, c.granularity, c.slot, coalesce(c.place, k.id), c.visits FROM counting c LEFT JOIN count_key k ON k.text = c.key;
END $$;
-- +goose StatementEnd

-- What visitors and pages name themselves: paths, referrers, languages and links. Whoever has a page key may make up any
-- number of them, so of each day and site only the most frequent are counted by name, and the rest under 0.
-- +goose StatementBegin
CREATE FUNCTION is_named(dimension text) RETURNS boolean LANGUAGE sql IMMUTABLE AS $$
    SELECT dimension IN ('path', 'referrer', 'language', 'link')
$$;
-- +goose StatementEnd

-- Where a day has more than 2,000 names of one dimension, leaves the 1,000 most frequent.
-- +goose StatementBegin
CREATE FUNCTION bound_names(of_site text, of_dimension text, of_slot timestamptz) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    IF (SELECT count(*) FROM (SELECT FROM rollup WHERE site = of_site AND dimension = of_dimension AND granularity = 'day' AND slot = of_slot LIMIT 2001) n) <= 2000 THEN
        RETURN;
    END IF;
    WITH gone AS (
        DELETE FROM rollup WHERE site = of_site AND dimension = of_dimension AND granularity = 'day' AND slot = of_slot AND key <> 0 AND key NOT IN (
            SELECT key FROM rollup WHERE site = of_site AND dimension = of_dimension AND granularity = 'day' AND slot = of_slot AND key <> 0
            ORDER BY visits DESC, key LIMIT 1000)
        RETURNING visits
    )
    INSERT INTO rollup SELECT of_site, of_dimension, 'day', of_slot, 0, sum(visits) FROM gone
    ON CONFLICT (site, dimension, granularity, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;
    UPDATE installation SET loose_keys = true WHERE NOT loose_keys;
END $$;
-- +goose StatementEnd

-- Counts the rows that this transaction has stored, from a sequence number on that begin_storing() gave. The caller holds the
-- locks of counting of their sites.
-- +goose StatementBegin
CREATE FUNCTION count_stored(first bigint) RETURNS void LANGUAGE plpgsql AS $$
DECLARE
    grown record;
    own   text := format('sequence >= %s AND xmin = %L::xid', first, pg_current_xact_id()::xid);
BEGIN
    FOR grown IN
        WITH done AS (
            INSERT INTO rollup SELECT * FROM keyed_counts(own) ORDER BY 1, 2, 3, 4, 5
            ON CONFLICT (site, dimension, granularity, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits
            RETURNING site, dimension, slot, xmax = 0 AS fresh
        )
        SELECT DISTINCT site, dimension, slot FROM done WHERE fresh AND is_named(dimension)
    LOOP
        PERFORM bound_names(grown.site, grown.dimension, grown.slot);
    END LOOP;

    WITH fresh AS (
        INSERT INTO visitor_seen (site, day, visitor_hash)
        SELECT DISTINCT unnest(counted_for(site, path, link)), (time AT TIME ZONE 'UTC')::date, visitor_hash FROM visit
        WHERE sequence >= first AND xmin = pg_current_xact_id()::xid AND counted AND visitor_hash IS NOT NULL ORDER BY 1, 2, 3
        ON CONFLICT DO NOTHING RETURNING site, day
    )
    INSERT INTO rollup
    SELECT site, 'visitors', 'day', day::timestamp AT TIME ZONE 'UTC', 1, count(*) FROM fresh GROUP BY site, day ORDER BY site, day
    ON CONFLICT (site, dimension, granularity, slot, key) DO UPDATE SET visits = rollup.visits + excluded.visits;
END $$;
-- +goose StatementEnd

-- Adds the visits with these ids to the counts, or takes them away with -1; what comes to nothing is gone. What is taken
-- away and is not counted by its name was counted among the others.
-- +goose StatementBegin
CREATE FUNCTION count_ids(ids uuid[], sign int) RETURNS void LANGUAGE plpgsql AS $$
DECLARE grown record;
BEGIN
    FOR grown IN
        WITH change AS MATERIALIZED (
            SELECT g.*, CASE WHEN sign < 0 AND is_named(g.dimension) THEN least(g.visits, coalesce(r.visits, 0)) ELSE g.visits END AS by_name
            FROM keyed_counts(format('id = ANY(%L::uuid[])', ids)) g LEFT JOIN rollup r USING (site, dimension, granularity, slot, key)
        ), summed AS (
            SELECT site, dimension, granularity, slot, key, sum(visits) AS visits FROM (
                SELECT site, dimension, granularity, slot, key, by_name AS visits FROM change WHERE by_name > 0
                UNION ALL SELECT site, dimension, granularity, slot, 0, visits - by_name FROM change WHERE visits > by_name
            ) c GROUP BY 1, 2, 3, 4, 5
        ), done AS (
            INSERT INTO rollup AS r
            SELECT site, dimension, granularity, slot, key, sign * visits FROM summed ORDER BY 1, 2, 3, 4, 5
            ON CONFLICT (site, dimension, granularity, slot, key) DO UPDATE SET visits = r.visits + excluded.visits
            RETURNING site, dimension, granularity, slot, xmax = 0 AS fresh
        )
        SELECT site, dimension, granularity, slot, bool_or(fresh) AND is_named(dimension) AS named FROM done GROUP BY 1, 2, 3, 4
    LOOP
        DELETE FROM rollup r WHERE (r.site, r.dimension, r.granularity, r.slot) = (grown.site, grown.dimension, grown.granularity, grown.slot) AND r.visits = 0;
        IF grown.named THEN
            PERFORM bound_names(grown.site, grown.dimension, grown.slot);
        END IF;
    END LOOP;
    UPDATE installation SET loose_keys = true WHERE sign < 0 AND NOT loose_keys;
END $$;
-- +goose StatementEnd

-- What the counts of a site's day in UTC, and of its links, would be if they were made from its rows now. The text of a
-- place's key is its id.
-- +goose StatementBegin
CREATE FUNCTION recount(of_site text, day timestamptz) RETURNS TABLE (site text, dimension text, granularity text, slot timestamptz, key text, visits bigint)
LANGUAGE sql STABLE AS $$
    SELECT site, dimension, granularity, slot, coalesce(key, place::text), visits
    FROM count_where(format('site = %L AND id >= %L AND id < %L', of_site, id_floor(day), id_floor(day + interval '1 day')))
    UNION ALL
    SELECT s, 'visitors', 'day', day, '', count(DISTINCT visitor_hash) FROM visit v, unnest(counted_for(v.site, path, link)) s
    WHERE v.site = of_site AND id >= id_floor(day) AND id < id_floor(day + interval '1 day') AND counted
    GROUP BY s HAVING count(DISTINCT visitor_hash) > 0
$$;
-- +goose StatementEnd

-- Counts the distinct visitors of a site's day in UTC, and of its links, again, and forgets those that have no visit left.
-- +goose StatementBegin
CREATE FUNCTION recount_visitors(of_site text, day timestamptz) RETURNS void LANGUAGE sql AS $$
    DELETE FROM visitor_seen s WHERE is_of(s.site, of_site) AND s.day = (recount_visitors.day AT TIME ZONE 'UTC')::date
        AND (s.site, s.visitor_hash) NOT IN (SELECT unnest(counted_for(site, path, link)), visitor_hash FROM visit WHERE site = of_site AND id >= id_floor(recount_visitors.day)
            AND id < id_floor(recount_visitors.day + interval '1 day') AND counted AND visitor_hash IS NOT NULL);
    DELETE FROM rollup WHERE site = of_site AND dimension = 'visitors' AND slot = recount_visitors.day;
    DELETE FROM rollup WHERE strpos(site, '/') > 0 AND is_of(site, of_site) AND dimension = 'visitors' AND slot = recount_visitors.day;
    INSERT INTO rollup SELECT site, dimension, granularity, slot, 1, visits FROM recount(of_site, day) WHERE dimension = 'visitors';
$$;
-- +goose StatementEnd

-- Makes the counts of a site's day in UTC anew from its rows. The caller holds the lock of storing.
-- +goose StatementBegin
CREATE FUNCTION mend_day(of_site text, day timestamptz) RETURNS void LANGUAGE plpgsql AS $$
BEGIN
    DELETE FROM rollup WHERE site = of_site AND slot >= day AND slot < day + interval '1 day';
    DELETE FROM rollup WHERE strpos(site, '/') > 0 AND is_of(site, of_site) AND slot >= day AND slot < day + interval '1 day';
    INSERT INTO count_key (text) SELECT DISTINCT key FROM recount(of_site, day) WHERE dimension <> 'place' ON CONFLICT DO NOTHING;
    INSERT INTO rollup SELECT r.site, r.dimension, r.granularity, r.slot, CASE r.dimension WHEN 'place' THEN r.key::bigint ELSE k.id END, r.visits
    FROM recount(of_site, day) r LEFT JOIN count_key k ON k.text = r.key AND r.dimension <> 'place';
    PERFORM bound_names(n.site, n.dimension, day) FROM (SELECT DISTINCT site, dimension FROM recount(of_site, day) WHERE is_named(dimension)) n;
END $$;
-- +goose StatementEnd

-- What differs between the counts of a site's day in UTC, and of its links, and its rows. Where not all names are counted, those that are
-- may have fewer visits than rows, and all of them together as many.
-- +goose StatementBegin
CREATE FUNCTION miscounted(of_site text, day timestamptz) RETURNS TABLE (site text, dimension text, granularity text, slot timestamptz, key text, counted bigint, "rows" bigint)
LANGUAGE sql STABLE AS $$
    WITH r AS MATERIALIZED (SELECT * FROM recount(of_site, day)),
    c AS MATERIALIZED (
        SELECT x.site, x.dimension, x.granularity, x.slot, CASE x.dimension WHEN 'place' THEN x.key::text ELSE k.text END AS key, x.visits
        FROM (SELECT * FROM rollup WHERE site = of_site AND slot >= day AND slot < day + interval '1 day'
            UNION ALL SELECT * FROM rollup WHERE strpos(site, '/') > 0 AND is_of(site, of_site) AND slot >= day AND slot < day + interval '1 day') x
        LEFT JOIN count_key k ON k.id = x.key AND x.dimension <> 'place'),
    bounded AS (SELECT c.site, c.dimension, c.slot FROM c WHERE c.key = chr(2)),
    both_of AS (
        SELECT site, dimension, granularity, slot, key, coalesce(c.visits, 0) AS counted, coalesce(r.visits, 0) AS there,
            granularity = 'day' AND (site, dimension, slot) IN (SELECT * FROM bounded) AS part
        FROM r FULL JOIN c USING (site, dimension, granularity, slot, key)
    )
    SELECT site, dimension, granularity, slot, key, counted, there FROM both_of WHERE counted <> there AND NOT part
    UNION ALL SELECT site, dimension, granularity, slot, key, counted, there FROM both_of WHERE part AND key <> chr(2) AND counted > there
    UNION ALL SELECT site, dimension, granularity, slot, chr(2), sum(counted)::bigint, sum(there)::bigint FROM both_of WHERE part GROUP BY 1, 2, 3, 4 HAVING sum(counted) <> sum(there)
    ORDER BY 1, 2, 3, 4, 5
$$;
-- +goose StatementEnd

-- What must not come back, and what could not be stored ---------------------------------------------------------------

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
    record bytea NOT NULL -- JSON of the row and its facts, or what was in the queue instead
);
CREATE INDEX quarantine_time ON quarantine (time DESC, id);

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

-- For the owner's own tools: docs/sql.md. These names and columns stay ------------------------------------------------

CREATE VIEW visit_fact AS
SELECT v.id, v.time, v.site, v.path, v.referrer, v.referrer_host, v.user_agent, v.agent, v.link, v.destination, v.attributes, v.marks, v.counted,
    v.address, v.placeholder, v.kind, v.skipped, p.level, v.country_code, v.basis, p.region_code, p.city, p.latitude, p.longitude, p.radius_km, p.time_zone,
    CASE WHEN p.latitude IS NOT NULL THEN json_build_object('type', 'Point', 'coordinates', json_build_array(p.longitude, p.latitude)) END AS point,
    v.network, v.labels, v.language, v.week_hour, v.unverified,
    a.body->'edition'->>'name' AS edition, a.body->'location' AS location, a.body->'evidence' AS evidence, v.trail
FROM visit v JOIN place p ON p.id = v.place JOIN edition_facts a ON a.id = v.facts;

CREATE VIEW visit_day AS
SELECT r.site, (r.slot AT TIME ZONE 'UTC')::date AS day, r.dimension, k.text AS key, r.visits,
    p.level, p.country_code, p.region_code, p.city, p.latitude, p.longitude, p.radius_km, p.time_zone
FROM rollup r LEFT JOIN count_key k ON k.id = r.key AND r.dimension <> 'place' LEFT JOIN place p ON p.id = r.key AND r.dimension = 'place'
WHERE r.granularity = 'day' AND strpos(r.site, '/') = 0;

CREATE VIEW link_day AS
SELECT split_part(r.site, '/', 1) AS site, split_part(r.site, '/', 3) AS link, (r.slot AT TIME ZONE 'UTC')::date AS day, r.dimension, k.text AS key, r.visits AS clicks,
    p.level, p.country_code, p.region_code, p.city, p.latitude, p.longitude, p.radius_km, p.time_zone
FROM rollup r LEFT JOIN count_key k ON k.id = r.key AND r.dimension <> 'place' LEFT JOIN place p ON p.id = r.key AND r.dimension = 'place'
WHERE r.granularity = 'day' AND strpos(r.site, '/') > 0;

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
                SELECT x.skipped FROM atlas_policy x WHERE x.prefix >>= inner_address ORDER BY x.own DESC, masklen(x.prefix) DESC LIMIT 1) AS is_skipped
        FROM ruled r)
    SELECT d.kind, d.is_skipped, coalesce(r.level, 'none'), r.continent_code, r.country_code, r.region_code, r.city, r.postal_code,
        r.latitude, r.longitude, r.radius_km, r.time_zone, r.as_number, r.operator,
        own.labels || ARRAY(SELECT l FROM unnest(r.labels) WITH ORDINALITY AS u(l, i) WHERE l <> ALL (own.labels) ORDER BY i),
        (SELECT e.edition FROM atlas_published e)
    FROM decided d
    CROSS JOIN LATERAL (SELECT ARRAY(SELECT DISTINCT x.label COLLATE "C" FROM atlas_label x WHERE x.prefix >>= a ORDER BY 1) AS labels) own
    LEFT JOIN LATERAL (
        SELECT * FROM (SELECT * FROM atlas_range x WHERE x.first <= b ORDER BY x.first DESC LIMIT 1) n WHERE n.last >= b AND NOT d.is_skipped
    ) r ON true
$$;
-- +goose StatementEnd
