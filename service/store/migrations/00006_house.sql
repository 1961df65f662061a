-- +goose Up
-- What was called a join is a person: by what entries are one person, and which
-- of them follow another.
ALTER TABLE join_keys RENAME TO person_keys;
ALTER INDEX join_keys_key RENAME TO person_keys_key;
ALTER TABLE joins RENAME TO followers;
ALTER INDEX joins_lead RENAME TO followers_lead;

-- +goose StatementBegin
CREATE FUNCTION pg_temp.person(document jsonb) RETURNS jsonb LANGUAGE sql AS $$
    SELECT CASE WHEN document #> '{users,join}' IS NULL THEN document
        ELSE jsonb_set(document #- '{users,join}', '{users,person}', document #> '{users,join}') END
$$;
-- +goose StatementEnd
UPDATE settings_revisions SET document = pg_temp.person(document);
UPDATE settings_draft SET document = pg_temp.person(document);
UPDATE runs SET document = pg_temp.person(document) WHERE document IS NOT NULL;
UPDATE runs SET counts = counts - 'joined' || jsonb_build_object('samePerson', counts -> 'joined') WHERE counts ? 'joined';
UPDATE changes SET code = CASE code WHEN 'joined' THEN 'same-person' WHEN 'join-ambiguous' THEN 'person-ambiguous' ELSE 'person-two-resources' END
    WHERE code IN ('joined', 'join-ambiguous', 'join-two-resources');
UPDATE problems SET code = CASE code WHEN 'join-ambiguous' THEN 'person-ambiguous' ELSE 'person-two-resources' END
    WHERE code IN ('join-ambiguous', 'join-two-resources');
UPDATE followers SET code = CASE code WHEN 'join-ambiguous' THEN 'person-ambiguous' ELSE 'person-two-resources' END
    WHERE code IN ('join-ambiguous', 'join-two-resources');

-- rule: the match rule that an adoption follows.
ALTER TABLE changes ADD rule text NOT NULL DEFAULT '';
UPDATE changes SET rule = regexp_replace(coalesce(diffs->0->>'source', ''), '^match rule ', '') WHERE operation = 'adopt';

-- purpose: what a run is for, in the place of a kind and flags.
ALTER TABLE runs ADD purpose text;
UPDATE runs SET purpose = CASE
    WHEN kind IN ('look', 'survey') THEN kind
    WHEN kind = 'trial' THEN CASE WHEN rehearsal THEN 'trial' ELSE 'single' END
    WHEN draft > 0 THEN 'impact'
    WHEN rehearsal THEN CASE kind WHEN 'full' THEN 'forecast' ELSE 'rehearsal' END
    WHEN releases > 0 THEN 'release'
    WHEN kind = 'full' THEN 'full' ELSE 'sync' END;
ALTER TABLE runs ALTER purpose SET NOT NULL, DROP kind, DROP rehearsal;

-- +goose Down
ALTER TABLE runs ADD kind text NOT NULL DEFAULT 'delta', ADD rehearsal boolean NOT NULL DEFAULT false;
UPDATE runs SET kind = CASE WHEN purpose IN ('look', 'survey') THEN purpose WHEN purpose IN ('trial', 'single') THEN 'trial' WHEN purpose IN ('full', 'forecast') THEN 'full' ELSE 'delta' END,
    rehearsal = purpose IN ('rehearsal', 'forecast', 'impact', 'trial');
ALTER TABLE runs DROP purpose;
ALTER TABLE changes DROP rule;
ALTER TABLE person_keys RENAME TO join_keys;
ALTER INDEX person_keys_key RENAME TO join_keys_key;
ALTER TABLE followers RENAME TO joins;
ALTER INDEX followers_lead RENAME TO joins_lead;
UPDATE settings_revisions SET document = jsonb_set(document #- '{users,person}', '{users,join}', document #> '{users,person}') WHERE document #> '{users,person}' IS NOT NULL;
UPDATE settings_draft SET document = jsonb_set(document #- '{users,person}', '{users,join}', document #> '{users,person}') WHERE document #> '{users,person}' IS NOT NULL;
