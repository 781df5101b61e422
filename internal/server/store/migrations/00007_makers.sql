-- +goose Up
-- Who made a key: in words, and the key that was used, also where it opened the session.
ALTER TABLE access_key
    ADD made_by text NOT NULL DEFAULT 'the service',
    ADD made_by_key uuid REFERENCES access_key,
    ADD made_by_session uuid;
CREATE INDEX access_key_made_by ON access_key (made_by_key);
ALTER TABLE sign_in_link ADD made_by text NOT NULL DEFAULT 'the service';
ALTER TABLE session ADD key_id uuid REFERENCES access_key; -- that opened it
CREATE INDEX session_key ON session (key_id);

-- What tells this installation from others, whose instances share the database.
CREATE TABLE installation (
    only_one boolean PRIMARY KEY DEFAULT true CHECK (only_one),
    id       uuid NOT NULL DEFAULT gen_random_uuid()
);
INSERT INTO installation DEFAULT VALUES;

-- +goose Down
DROP TABLE installation;
ALTER TABLE session DROP key_id;
ALTER TABLE sign_in_link DROP made_by;
ALTER TABLE access_key DROP made_by, DROP made_by_key, DROP made_by_session;
