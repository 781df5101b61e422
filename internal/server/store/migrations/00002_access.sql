-- +goose Up
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
    revoked   timestamptz
);
CREATE TABLE sign_in_link (
    hash    bytea PRIMARY KEY,
    expires timestamptz NOT NULL,
    used    timestamptz
);
CREATE TABLE session (
    id        uuid PRIMARY KEY,
    hash      bytea NOT NULL UNIQUE, -- SHA-256 of the cookie
    created   timestamptz NOT NULL,
    last_seen timestamptz NOT NULL,
    expires   timestamptz NOT NULL,
    ended     timestamptz,
    how       text NOT NULL,
    user_agent     text NOT NULL
);
CREATE TABLE audit (
    id     uuid PRIMARY KEY,
    time   timestamptz NOT NULL,
    what   text NOT NULL,
    actor  text NOT NULL,
    detail text NOT NULL
);

-- +goose Down
DROP TABLE audit, session, sign_in_link, access_key;
