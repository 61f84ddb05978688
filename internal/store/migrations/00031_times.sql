-- +goose Up
-- A decision happened when its record says. Earlier versions looked at the clock once more for
-- the rows that follow from it.
ALTER TABLE policies DISABLE TRIGGER USER;
ALTER TABLE publishers DISABLE TRIGGER USER;
ALTER TABLE keys DISABLE TRIGGER USER;
ALTER TABLE key_changes DISABLE TRIGGER USER;
UPDATE policies p SET created_at = r.at FROM ledger_records r WHERE r.kind = 'policy-set' AND convert_from(r.body, 'UTF8')::jsonb ->> 'version' = p.version::text;
UPDATE waivers w SET created_at = r.at FROM ledger_records r WHERE r.kind = 'waiver-granted' AND r.position = w.position;
UPDATE waivers w SET ended_at = r.at FROM ledger_records r WHERE r.kind = 'waiver-ended' AND convert_from(r.body, 'UTF8')::jsonb ->> 'record' = w.position::text AND w.ended_at IS NOT NULL;
UPDATE publishers p SET created_at = r.at FROM ledger_records r WHERE r.kind = 'publisher-added' AND r.subject = p.slug;
UPDATE keys k SET imported_at = r.at FROM (SELECT DISTINCT ON (subject) subject, at FROM ledger_records WHERE kind = 'key-imported' ORDER BY subject, position) r WHERE r.subject = encode(k.fingerprint, 'hex');
UPDATE key_changes c SET at = r.at FROM ledger_records r WHERE r.kind = 'key-step' AND r.position = c.position;
UPDATE sightings s SET at = r.at FROM ledger_records r WHERE r.kind = 'sighting' AND r.position = s.position;
UPDATE sightings s SET resolved_at = r.at FROM ledger_records r WHERE r.kind = 'conflict-resolved' AND convert_from(r.body, 'UTF8')::jsonb ->> 'sighting' = s.position::text AND s.resolved_at IS NOT NULL;
UPDATE proposals p SET at = r.at FROM ledger_records r WHERE r.kind = 'admission-proposed' AND r.position = p.position;
ALTER TABLE satchels DISABLE TRIGGER USER;
UPDATE users u SET created_at = r.at FROM ledger_records r WHERE r.kind = 'user-added' AND r.subject = u.name;
UPDATE users u SET changed_at = r.at FROM (SELECT DISTINCT ON (subject) subject, at FROM ledger_records WHERE kind = 'user-changed' ORDER BY subject, position DESC) r WHERE r.subject = u.name AND u.changed_at IS NOT NULL;
UPDATE tokens t SET created_at = r.at FROM ledger_records r WHERE r.kind = 'token-issued' AND convert_from(r.body, 'UTF8')::jsonb ->> 'token' = t.id::text;
UPDATE tokens t SET revoked_at = r.at FROM ledger_records r WHERE r.kind = 'token-revoked' AND convert_from(r.body, 'UTF8')::jsonb ->> 'token' = t.id::text AND t.revoked_at IS NOT NULL;
UPDATE devices d SET at = r.at FROM ledger_records r WHERE r.kind = 'device-set' AND r.position = d.position;
UPDATE device_kinds d SET at = r.at FROM ledger_records r WHERE r.kind = 'device-kind-set' AND r.position = d.position;
UPDATE satchels s SET at = r.at FROM ledger_records r WHERE r.kind = 'satchel-packed' AND r.position = s.position;
UPDATE batches b SET finished_at = r.at FROM ledger_records r WHERE r.kind = 'batch-result' AND r.position = b.position;
UPDATE reassessments a SET finished_at = r.at FROM ledger_records r WHERE r.kind = 'reassessed' AND r.position = a.position;
ALTER TABLE satchels ENABLE TRIGGER USER;
ALTER TABLE policies ENABLE TRIGGER USER;
ALTER TABLE publishers ENABLE TRIGGER USER;
ALTER TABLE keys ENABLE TRIGGER USER;
ALTER TABLE key_changes ENABLE TRIGGER USER;

-- +goose Down
SELECT 1;
