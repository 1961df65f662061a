-- +goose Up
-- Problems about anything, with facts as fields, and a history that keeps the
-- closed ones. detail is the text as it was made of the facts.
CREATE TABLE problems_kept (
    id bigint PRIMARY KEY GENERATED ALWAYS AS IDENTITY,
    about text NOT NULL,
    subject text NOT NULL DEFAULT '',
    -- Of a problem of an entry, the same as subject, to join by.
    directory text NOT NULL DEFAULT '',
    entry_id uuid,
    code text NOT NULL,
    facts jsonb NOT NULL DEFAULT '{}',
    detail text NOT NULL DEFAULT '',
    -- Who meets it: plan, run (what ended one), or watch (how things stand).
    source text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(),
    met timestamptz NOT NULL DEFAULT now(),
    first_run bigint NOT NULL DEFAULT 0,
    last_run bigint NOT NULL DEFAULT 0,
    times integer NOT NULL DEFAULT 1,
    closed timestamptz,
    closing text NOT NULL DEFAULT ''
);
INSERT INTO problems_kept (about, subject, directory, entry_id, code, facts, detail, source, since, met, first_run, last_run, times)
    SELECT 'entry', directory || '/' || entry_id, directory, entry_id, code,
        CASE WHEN candidates = '{}' THEN '{}' ELSE jsonb_build_object('resources', (SELECT jsonb_agg(jsonb_build_object('id', c, 'name', c)) FROM unnest(candidates) AS c)) END,
        detail, 'plan', since, now(), last_run, last_run, times FROM problems;
DROP TABLE problems;
ALTER TABLE problems_kept RENAME TO problems;
ALTER SEQUENCE problems_kept_id_seq RENAME TO problems_id_seq;
ALTER INDEX problems_kept_pkey RENAME TO problems_pkey;
-- A thing has a problem once at a time, and an entry has one at a time.
CREATE UNIQUE INDEX problems_open ON problems (about, subject, code) WHERE closed IS NULL;
CREATE UNIQUE INDEX problems_entry ON problems (directory, entry_id) WHERE closed IS NULL AND entry_id IS NOT NULL;
CREATE INDEX problems_subject ON problems (about, subject, id);
CREATE INDEX problems_closed ON problems (closed) WHERE closed IS NOT NULL;

-- What a change waits for, with its facts.
ALTER TABLE changes ADD facts jsonb;
UPDATE changes SET facts = jsonb_build_object('resources', (SELECT jsonb_agg(jsonb_build_object('id', c, 'name', c)) FROM unnest(candidates) AS c)) WHERE candidates <> '{}';
ALTER TABLE changes DROP candidates;

-- What cannot be told of a person, with its facts.
ALTER TABLE followers ADD facts jsonb NOT NULL DEFAULT '{}';

-- Acts: what was the audit's text is data.
ALTER TABLE audit RENAME TO acts;
ALTER SEQUENCE audit_id_seq RENAME TO acts_id_seq;
ALTER INDEX audit_pkey RENAME TO acts_pkey;
ALTER TABLE acts RENAME who TO by;
ALTER TABLE acts RENAME what TO kind;
ALTER TABLE acts RENAME detail TO note;
ALTER TABLE acts
    ADD about text NOT NULL DEFAULT '', ADD subject text NOT NULL DEFAULT '',
    ADD before jsonb, ADD after jsonb, ADD result text NOT NULL DEFAULT 'done';
UPDATE acts SET result = CASE WHEN kind = 'sign-in refused' OR kind = 'sign in refused' THEN 'refused' WHEN kind = 'repair failed' THEN 'failed' ELSE 'done' END,
    kind = CASE kind
        WHEN 'sign-in refused' THEN 'sign-in' WHEN 'sign in' THEN 'sign-in'
        WHEN 'repair done' THEN 'repair-value' WHEN 'repair failed' THEN 'repair-value'
        WHEN 'decide link' THEN 'link' WHEN 'decide merge' THEN 'merge' WHEN 'decide hold' THEN 'unlink'
        WHEN 'decide create' THEN 'create' WHEN 'decide forget' THEN 'rematch'
        WHEN 'trial with write' THEN 'sync-one' WHEN 'take directory away' THEN 'remove-directory'
        WHEN 'issue enrolment code' THEN 'issue-enrolment-code' WHEN 'enrol' THEN 'enrol-agent'
        WHEN 'reset password' THEN 'set-password'
        ELSE replace(kind, ' ', '-') END;
CREATE INDEX acts_subject ON acts (about, subject, id);

-- Orders: by priority, which are slow, and of which what was asked is forgotten at the
-- end. That has another form by kind, so what is open is asked again by whoever needs it.
ALTER TABLE orders ADD priority smallint NOT NULL DEFAULT 4, ADD slow boolean NOT NULL DEFAULT false, ADD erases boolean NOT NULL DEFAULT false;
UPDATE orders SET state = 'failed', failure_code = 'cancelled' WHERE state IN ('waiting', 'leased');
UPDATE orders SET request = '{}' WHERE kind = 'repair';

-- Sides: where a change is written, and who decides about a linked pair.
ALTER TABLE changes ADD side text NOT NULL DEFAULT 'cloud' CHECK (side IN ('cloud', 'directory'));
ALTER TABLE links ADD owner text NOT NULL DEFAULT 'directory' CHECK (owner IN ('cloud', 'directory'));

-- +goose Down
ALTER TABLE links DROP owner;
ALTER TABLE changes DROP side;
ALTER TABLE orders DROP priority, DROP slow, DROP erases;
DROP INDEX acts_subject;
ALTER TABLE acts DROP about, DROP subject, DROP before, DROP after, DROP result;
ALTER TABLE acts RENAME note TO detail;
ALTER TABLE acts RENAME kind TO what;
ALTER TABLE acts RENAME by TO who;
ALTER INDEX acts_pkey RENAME TO audit_pkey;
ALTER SEQUENCE acts_id_seq RENAME TO audit_id_seq;
ALTER TABLE acts RENAME TO audit;
ALTER TABLE followers DROP facts;
ALTER TABLE changes ADD candidates text[] NOT NULL DEFAULT '{}';
UPDATE changes SET candidates = ARRAY(SELECT r ->> 'id' FROM jsonb_array_elements(facts -> 'resources') AS r) WHERE facts ? 'resources';
ALTER TABLE changes DROP facts;
CREATE TABLE problems_open_only (
    directory text NOT NULL, entry_id uuid NOT NULL, code text NOT NULL, detail text NOT NULL,
    since timestamptz NOT NULL DEFAULT now(), last_run bigint NOT NULL, times integer NOT NULL DEFAULT 1,
    candidates text[] NOT NULL DEFAULT '{}', PRIMARY KEY (directory, entry_id)
);
INSERT INTO problems_open_only SELECT directory, entry_id, code, detail, since, last_run, times,
    ARRAY(SELECT r ->> 'id' FROM jsonb_array_elements(coalesce(facts -> 'resources', '[]')) AS r) FROM problems WHERE closed IS NULL AND entry_id IS NOT NULL;
DROP TABLE problems;
ALTER TABLE problems_open_only RENAME TO problems;
ALTER INDEX problems_open_only_pkey RENAME TO problems_pkey;
