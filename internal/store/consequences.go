package store

import (
	"context"
	"fmt"
	"strconv"
	"strings"
)

// A Difference is a row that is not what the records say, a row without its
// record, or a record without its row.
type Difference struct {
	// Position is that of the record, or -1 where there is none.
	Position int64 `db:"position"`
	// What is the row, and what is wrong with it, for people.
	What string `db:"what"`
}

// A consequence says what a table has to hold for the records that there are.
type consequence struct {
	// of names the rows, for people.
	of string
	// sql selects position and what of each row that differs. {from} in it is the position from
	// which on records, and the rows that follow from them, are looked at.
	sql string
}

// record reads records of some kinds with their own texts, which the ledger
// proves; nothing else of the ledger's table is.
func record(kinds ...string) string {
	return `(SELECT position, at, by_name, kind, subject, verdict, batch_id, convert_from(body, 'UTF8')::jsonb AS body FROM ledger_records WHERE kind IN ('` +
		strings.Join(kinds, "', '") + `'))`
}

// since is record for those from {from} on, and fresh tells that a row says that it follows from
// one of them, or from none.
func since(kinds ...string) string {
	return strings.TrimSuffix(record(kinds...), ")") + " AND position >= {from})"
}

func fresh(position string) string {
	return "(" + position + " >= {from} OR " + position + " IS NULL OR " + position + " < 0)"
}

// unequal tells that two times are not the same, but for what a text rounds: without a time on
// both sides they are not, without one on either they are.
func unequal(a, b string) string {
	return fmt.Sprintf("(%[1]s IS DISTINCT FROM %[2]s AND NOT coalesce(isfinite(%[1]s) AND isfinite(%[2]s) AND %[1]s BETWEEN %[2]s - interval '1 millisecond' AND %[2]s + interval '1 millisecond', false))", a, b)
}

const (
	missing = "'there is no row for the record'"
	extra   = "'there is no record for the row'"
)

// adopted are the rows of earlier versions that were taken as they were, by table, name and
// digest; adoptedAt is where that is recorded. The first such record counts, so that nobody
// can have rows adopted later.
const (
	adopted = `(SELECT e ->> 'table' AS of, e ->> 'name' AS name, e ->> 'digest' AS digest
		FROM (SELECT convert_from(body, 'UTF8')::jsonb AS body FROM ledger_records WHERE kind = 'rows-adopted' ORDER BY position LIMIT 1) r CROSS JOIN LATERAL jsonb_array_elements(r.body -> 'rows') e)`
	adoptedAt = `coalesce((SELECT min(position) FROM ledger_records WHERE kind = 'rows-adopted'), -1)`
)

// digestOver is the digest over some values of a row, as it was adopted.
func digestOver(values ...string) string {
	for i, v := range values {
		values[i] = "to_jsonb(" + v + ")::text"
	}
	return "encode(sha256(convert_to(concat_ws('|', " + strings.Join(values, ", ") + "), 'UTF8')), 'hex')"
}

// The rows that can be adopted, each by its name and the digest over what decides: versions
// of keys and of publishers, and people.
func keyVersionName(row string) string {
	return "encode(" + row + ".fingerprint, 'hex') || ' ' || " + row + ".revision"
}

func keyVersionDigest(row string) string {
	return digestOver("coalesce(p.slug, '')", row+".role", "encode(sha256("+row+".certificate), 'hex')")
}

func publisherVersionDigest(row string) string { return digestOver(row+".name", row+".scope") }

func personDigest(row string) string {
	return digestOver(row+".full_name", row+".role", row+".password_hash")
}

// isAdopted tells whether a row was adopted as it is.
func isAdopted(table, name, digest string) string {
	return "EXISTS (SELECT FROM " + adopted + " a WHERE a.of = '" + table + "' AND a.name = " + name + " AND a.digest = " + digest + ")"
}

// adoptable lists the rows that no record says all of.
var adoptable = `
	SELECT 'key_versions' AS of, ` + keyVersionName("v") + ` AS name, ` + keyVersionDigest("v") + ` AS digest
	FROM key_versions v LEFT JOIN publishers p ON p.id = v.publisher_id
	WHERE v.position < 0 OR NOT EXISTS (SELECT FROM ledger_records r WHERE r.position = v.position AND r.kind IN ('key-step', 'key-imported') AND (r.kind = 'key-step' OR convert_from(r.body, 'UTF8')::jsonb ? 'stored'))
	UNION ALL
	SELECT 'publisher_versions', p.slug || ' ' || v.revision, ` + publisherVersionDigest("v") + `
	FROM publisher_versions v JOIN publishers p ON p.id = v.publisher_id WHERE v.position < 0
	UNION ALL
	SELECT 'users', u.name, ` + personDigest("u") + ` FROM users u
	WHERE NOT coalesce((SELECT convert_from(r.body, 'UTF8')::jsonb ? 'password' FROM ledger_records r WHERE r.kind IN ('user-added', 'user-changed') AND r.subject = u.name ORDER BY r.position DESC LIMIT 1), false)`

// An AdoptedRow is a row of an earlier version that was taken as it was.
type AdoptedRow struct {
	Table  string `db:"of" json:"table"`
	Name   string `db:"name" json:"name"`
	Digest string `db:"digest" json:"digest"`
}

// AdoptionDue reports whether no rows were adopted yet.
func (s Reads) AdoptionDue(ctx context.Context) (due bool, err error) {
	err = s.q.GetContext(ctx, &due, `SELECT NOT EXISTS (SELECT FROM ledger_records WHERE kind = 'rows-adopted')`)
	return due, explain(err)
}

// Adoptable lists the rows that no record says all of.
func (s Reads) Adoptable(ctx context.Context) ([]AdoptedRow, error) {
	rows := []AdoptedRow{}
	err := s.q.SelectContext(ctx, &rows, adoptable+` ORDER BY 1, 2`)
	return rows, explain(err)
}

var adoptionRows = consequence{"rows of earlier versions", `
	SELECT position, 'rows were adopted once more: only the first time counts' AS what FROM ledger_records WHERE kind = 'rows-adopted' AND position > ` + adoptedAt}

// peopleRows: what records of earlier versions lack of a person was adopted.
var peopleRows = consequence{"people", `
	SELECT coalesce(r.position, -1) AS position, coalesce(u.name, r.body ->> 'name') || ': ' || CASE
		WHEN u.id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not as it was added' END AS what
	FROM users u FULL JOIN ` + record("user-added") + ` r ON r.body ->> 'name' = u.name
	LEFT JOIN (SELECT DISTINCT ON (body ->> 'name') * FROM ` + record("user-changed") + ` c ORDER BY body ->> 'name', position DESC) n ON n.body ->> 'name' = r.body ->> 'name'
	WHERE u.id IS NULL OR r.position IS NULL OR u.role IS DISTINCT FROM coalesce(n.body, r.body) ->> 'role' OR ` + unequal("u.created_at", "r.at") + `
		OR u.full_name IS DISTINCT FROM coalesce(coalesce(n.body, r.body) ->> 'full_name', u.full_name)
		OR u.disabled IS DISTINCT FROM coalesce((n.body ->> 'disabled')::boolean, false)
		OR (u.changed_at IS NULL) IS DISTINCT FROM (n.position IS NULL) OR (n.position IS NOT NULL AND ` + unequal("u.changed_at", "n.at") + `)
		OR encode(sha256(convert_to(u.password_hash, 'UTF8')), 'hex') IS DISTINCT FROM coalesce(n.body, r.body) ->> 'password'
		OR coalesce(n.body, r.body) ->> 'password' IS NULL AND NOT ` + isAdopted("users", "u.name", personDigest("u"))}

var deviceRows = consequence{"devices", `
	SELECT coalesce(r.position, d.position) AS position, coalesce(d.name, r.subject) || ': ' || CASE
		WHEN d.name IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not as it was set' END AS what
	FROM devices d FULL JOIN (SELECT DISTINCT ON (body -> 'device' ->> 'name') * FROM ` + record("device-set") + ` n ORDER BY body -> 'device' ->> 'name', position DESC) r
		ON r.body -> 'device' ->> 'name' = d.name
	WHERE d.name IS NULL OR r.position IS NULL OR d.position IS DISTINCT FROM r.position OR d.by_name IS DISTINCT FROM r.by_name OR ` + unequal("d.at", "r.at") + `
		OR to_jsonb(d) - 'by_name' - 'at' - 'position' IS DISTINCT FROM r.body -> 'device'`}

var deviceKindRows = consequence{"kinds of devices", `
	SELECT coalesce(r.position, d.position) AS position, coalesce(d.name, r.subject) || ': ' || CASE
		WHEN d.name IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not as it was set' END AS what
	FROM device_kinds d FULL JOIN (SELECT DISTINCT ON (body -> 'device_kind' ->> 'name') * FROM ` + record("device-kind-set") + ` n ORDER BY body -> 'device_kind' ->> 'name', position DESC) r
		ON r.body -> 'device_kind' ->> 'name' = d.name
	WHERE d.name IS NULL OR r.position IS NULL OR d.position IS DISTINCT FROM r.position OR d.by_name IS DISTINCT FROM r.by_name OR ` + unequal("d.at", "r.at") + `
		OR to_jsonb(d) - 'by_name' - 'at' - 'position' IS DISTINCT FROM r.body -> 'device_kind'`}

var satchelRows = consequence{"satchels", `
	SELECT coalesce(r.position, s.position) AS position, 'satchel ' || coalesce(s.id, r.subject) || ': ' || CASE
		WHEN s.id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not as it was packed' END AS what
	FROM satchels s FULL JOIN ` + record("satchel-packed") + ` r ON r.position = s.position
	WHERE s.id IS NULL OR r.position IS NULL OR s.id IS DISTINCT FROM r.body ->> 'satchel' OR s.digest IS DISTINCT FROM r.body ->> 'digest' OR s.document IS DISTINCT FROM r.body -> 'packed' OR s.by_name IS DISTINCT FROM r.by_name
		OR ` + unequal("s.at", "r.at") + ` OR ` + unequal("s.until", "(r.body ->> 'until')::timestamptz") + `
	UNION ALL
	SELECT coalesce(r.position, v.position), 'an outcome of satchel ' || coalesce(v.satchel_id, r.subject) || ': ' || CASE
		WHEN v.batch_id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not what was returned' END
	FROM (SELECT * FROM visits WHERE ` + fresh("position") + `) v FULL JOIN ` + since("visit-returned") + ` r ON r.position = v.position
	WHERE v.batch_id IS NULL OR r.position IS NULL OR v.batch_id IS DISTINCT FROM r.batch_id OR v.satchel_id IS DISTINCT FROM r.body ->> 'satchel' OR v.sealed_by IS DISTINCT FROM r.body ->> 'sealed_by'
		OR v.n IS DISTINCT FROM (r.body ->> 'number')::int OR encode(sha256(v.content), 'hex') IS DISTINCT FROM r.body ->> 'content'`}

var tokenRows = consequence{"tokens", `
	SELECT coalesce(r.position, -1) AS position, 'token ' || coalesce(t.id, (r.body ->> 'token')::bigint) || ': ' || CASE
		WHEN t.id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not as it was issued or ended' END AS what
	FROM (SELECT t.*, u.name FROM tokens t JOIN users u ON u.id = t.user_id) t FULL JOIN ` + record("token-issued") + ` r ON (r.body ->> 'token')::bigint = t.id
	LEFT JOIN ` + record("token-revoked") + ` e ON (e.body ->> 'token')::bigint = t.id
	WHERE t.id IS NULL OR r.position IS NULL OR t.name IS DISTINCT FROM r.body ->> 'owner' OR t.label IS DISTINCT FROM r.body ->> 'label' OR t.role IS DISTINCT FROM r.body ->> 'role'
		OR ` + unequal("t.expires_at", "(r.body ->> 'expires')::timestamptz") + ` OR ` + unequal("t.created_at", "r.at") + `
		OR encode(t.hash, 'hex') IS DISTINCT FROM coalesce(r.body ->> 'hash', encode(t.hash, 'hex')) OR t.made_with IS DISTINCT FROM (r.body ->> 'made_with')::bigint
		OR to_jsonb(t.depots) IS DISTINCT FROM coalesce(r.body -> 'depots', '[]') OR to_jsonb(t.publishers) IS DISTINCT FROM coalesce(r.body -> 'publishers', '[]')
		OR (t.revoked_at IS NULL) IS DISTINCT FROM (e.position IS NULL) OR (e.position IS NOT NULL AND ` + unequal("t.revoked_at", "e.at") + `)`}

// absentDigest is over what manifests of a batch list that is not there.
const absentDigest = `(SELECT encode(sha256(convert_to(coalesce(string_agg(concat_ws(E'\x1f', a.name, a.manifest, a.line, a.digest), E'\n' ORDER BY a.n), ''), 'UTF8')), 'hex')
	FROM missing a WHERE a.batch_id = b.id)`

var batchRows = consequence{"batches", `
	SELECT coalesce(r.position, b.position, -1) AS position, 'batch ' || coalesce(b.id, (r.body ->> 'batch')::bigint) || ': ' || CASE
		WHEN b.id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not what its record says' END AS what
	FROM (SELECT * FROM batches WHERE state NOT IN ('waiting', 'measuring') AND ` + fresh("position") + `) b FULL JOIN ` + since("batch-result") + ` r ON r.position = b.position
	WHERE b.id IS NULL OR r.position IS NULL OR (r.body ->> 'batch')::bigint IS DISTINCT FROM b.id OR r.body ->> 'label' IS DISTINCT FROM b.label OR r.by_name IS DISTINCT FROM b.asked_by
		OR coalesce(r.body -> 'source' ->> 'kind', 'depot') IS DISTINCT FROM b.source_kind
		OR coalesce(r.body -> 'source' ->> 'reference', (r.body ->> 'depot') || ':' || (r.body ->> 'folder')) IS DISTINCT FROM b.source
		OR r.body ->> 'state' IS DISTINCT FROM b.state OR r.body ->> 'verdict' IS DISTINCT FROM coalesce(b.verdict, '') OR r.body ->> 'note' IS DISTINCT FROM b.note
		OR (r.body ->> 'policy')::bigint IS DISTINCT FROM b.policy_version OR (r.body ->> 'require_all')::boolean IS DISTINCT FROM b.require_all
		OR coalesce(r.body -> 'corrections', b.corrections) IS DISTINCT FROM b.corrections OR coalesce(r.body -> 'origins', b.origins) IS DISTINCT FROM b.origins
		OR (r.body ->> 'items')::int IS DISTINCT FROM b.total_items OR (r.body ->> 'bytes')::bigint IS DISTINCT FROM b.total_bytes OR (r.body ->> 'cleared')::int IS DISTINCT FROM b.total_cleared
		OR (r.body ->> 'unproven')::int IS DISTINCT FROM b.total_unproven OR (r.body ->> 'refused')::int IS DISTINCT FROM b.total_refused OR (r.body ->> 'absent')::int IS DISTINCT FROM b.total_absent
		OR b.done_items IS DISTINCT FROM (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id) OR b.done_bytes > b.total_bytes OR b.state = 'done' AND b.done_bytes IS DISTINCT FROM b.total_bytes
		OR ` + unequal("b.finished_at", "r.at") + ` OR b.stop_by IS DISTINCT FROM coalesce(r.body -> 'stopped' ->> 'by', '')
		OR coalesce(b.stop_state, '') IS DISTINCT FROM coalesce(r.body -> 'stopped' ->> 'as', '') OR b.stop_reason IS DISTINCT FROM coalesce(r.body -> 'stopped' ->> 'reason', '')
		OR r.body ? 'publisher' AND (r.body ->> 'publisher' IS DISTINCT FROM b.publisher OR r.body -> 'expected' IS DISTINCT FROM coalesce(b.expected, 'null')
			OR ` + unequal("b.created_at", "(r.body ->> 'asked_at')::timestamptz") + ` OR ` + unequal("b.judged_as_of", "(r.body ->> 'judged_as_of')::timestamptz") + `
			OR (r.body ->> 'ledger_size')::bigint IS DISTINCT FROM b.ledger_size OR r.body ->> 'absent_entries' IS DISTINCT FROM ` + absentDigest + `)`}

var copyRows = consequence{"copies of manifests", `
	SELECT b.position, 'batch ' || b.id || ': a copy is not what the batch''s record says' AS what
	FROM batches b JOIN ` + since("batch-result") + ` r ON r.position = b.position
	WHERE coalesce(nullif(r.body -> 'copies', 'null'), '[]') IS DISTINCT FROM coalesce((SELECT jsonb_agg(c.summary ORDER BY c.n) FROM copies c WHERE c.batch_id = b.id AND c.summary IS NOT NULL), '[]')
	UNION ALL
	SELECT b.position, 'batch ' || b.id || ': a copy is not said to be from where it is' FROM copies c JOIN batches b ON b.id = c.batch_id
	WHERE c.summary IS NOT NULL AND b.position >= {from} AND (c.of_path IS DISTINCT FROM c.summary ->> 'of' OR c.channel IS DISTINCT FROM c.summary ->> 'channel' OR c.place IS DISTINCT FROM c.summary ->> 'place'
		OR c.summary ->> 'sha256' <> '' AND encode(sha256(c.content), 'hex') IS DISTINCT FROM c.summary ->> 'sha256')`}

// renamedRows: an entry that turned out to be here under another name stands in the survey of
// the item that it is of, which the item's record holds.
var renamedRows = consequence{"entries under another name", `
	SELECT coalesce(b.position, -1) AS position, 'batch ' || r.batch_id || ', an entry that is here under another name: no item''s record has it' AS what
	FROM renamed r LEFT JOIN absents a USING (batch_id, n) LEFT JOIN batches b ON b.id = r.batch_id
	WHERE ` + fresh("b.position") + ` AND NOT EXISTS (SELECT FROM items i CROSS JOIN LATERAL jsonb_array_elements(CASE jsonb_typeof(i.survey -> 'listed') WHEN 'array' THEN i.survey -> 'listed' ELSE '[]' END) l
		WHERE i.batch_id = a.batch_id AND l ->> 'manifest' = a.manifest AND l -> 'line' = to_jsonb(a.line) AND l ->> 'name' = a.name AND l ->> 'digest' = a.digest)`}

var outcomeRows = consequence{"outcomes", `
	SELECT coalesce(r.position, o.position, -1) AS position, 'batch ' || coalesce(o.batch_id, r.batch_id) || ', ' || coalesce(o.path, r.body ->> 'item') || ': ' || CASE
		WHEN o.n IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not what its record says' END AS what
	FROM (SELECT o.*, i.path, i.role, i.size, i.survey FROM outcomes o JOIN items i USING (batch_id, n) WHERE ` + fresh("o.position") + `) o FULL JOIN ` + since("item-outcome") + ` r ON r.position = o.position
	WHERE o.n IS NULL OR r.position IS NULL OR r.body ->> 'item' IS DISTINCT FROM o.path OR (r.body ->> 'batch')::bigint IS DISTINCT FROM o.batch_id OR r.body ->> 'role' IS DISTINCT FROM o.role
		OR coalesce(r.body ->> 'verdict', '') IS DISTINCT FROM coalesce(o.verdict, '') OR r.body -> 'grounds' IS DISTINCT FROM o.grounds OR r.body -> 'measurement' IS DISTINCT FROM o.measurement
		OR r.body -> 'paths' IS DISTINCT FROM o.paths OR r.body -> 'survey' IS DISTINCT FROM o.survey OR (o.survey ->> 'size')::bigint IS DISTINCT FROM o.size
		OR CASE WHEN coalesce(o.deciding, '') = '' THEN o.position > ` + adoptedAt + `
			ELSE NOT EXISTS (SELECT FROM jsonb_array_elements(CASE jsonb_typeof(o.grounds) WHEN 'array' THEN o.grounds ELSE '[]' END) g WHERE g ->> 'sentence' = o.deciding)
			AND o.deciding IS DISTINCT FROM 'It is a ' || o.role || ': ' || (o.survey ->> 'why') || '.' END
	UNION ALL
	SELECT -1, 'batch ' || i.batch_id || ', ' || i.path || ': the batch is finished and this item has no outcome'
	FROM items i JOIN batches b ON b.id = i.batch_id AND b.state = 'done' WHERE ` + fresh("b.position") + ` AND NOT EXISTS (SELECT FROM outcomes o WHERE o.batch_id = i.batch_id AND o.n = i.n)`}

var searchedRows = consequence{"what items are found by", `
	SELECT o.position, 'batch ' || o.batch_id || ', item ' || o.n || ': the digests it is found by are not those of its record' AS what
	FROM outcomes o LEFT JOIN LATERAL (SELECT jsonb_object_agg(d.algorithm, encode(d.digest, 'hex')) AS found, bool_or(d.cleared) AS cleared, bool_and(d.cleared) AS all_cleared
		FROM outcome_digests d WHERE d.batch_id = o.batch_id AND d.n = o.n) d ON true
	WHERE ` + fresh("o.position") + ` AND (coalesce(d.found, '{}') IS DISTINCT FROM coalesce(o.measurement -> 'digests', '{}')
		OR d.found IS NOT NULL AND (d.cleared IS DISTINCT FROM coalesce(o.verdict = 'cleared', false) OR d.all_cleared IS DISTINCT FROM d.cleared))
	UNION ALL
	SELECT o.position, 'batch ' || o.batch_id || ', item ' || o.n || ': the signers it is found by are not those of its record'
	FROM outcomes o
	WHERE ` + fresh("o.position") + ` AND ARRAY(SELECT s.issuer FROM outcome_signers s WHERE s.batch_id = o.batch_id AND s.n = o.n ORDER BY 1)
		<> ARRAY(SELECT DISTINCT s.issuer FROM jsonb_array_elements(CASE jsonb_typeof(o.grounds) WHEN 'array' THEN o.grounds ELSE '[]' END) g
			CROSS JOIN LATERAL (VALUES (g -> 'signature' ->> 'key'), (g -> 'signature' ->> 'made_by'), (g -> 'signature' ->> 'issuer')) s (issuer) WHERE s.issuer <> '' ORDER BY 1)
	UNION ALL
	SELECT -1, 'the verdicts of ' || coalesce(d.day, r.day) || ' are counted otherwise than they are recorded'
	FROM outcome_days d FULL JOIN (SELECT (at AT TIME ZONE 'UTC')::date AS day, verdict, count(*) AS count FROM ledger_records
		WHERE kind = 'item-outcome' AND verdict IS NOT NULL GROUP BY 1, 2) r USING (day, verdict) WHERE {from} = 0 AND d.count IS DISTINCT FROM r.count`}

var rejudgedRows = consequence{"changed verdicts", `
	SELECT coalesce(r.position, j.position) AS position, 'batch ' || coalesce(j.batch_id, (r.body ->> 'batch')::bigint) || ': ' || CASE
		WHEN j.n IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'a changed verdict is not what its record says' END AS what
	FROM (SELECT j.*, i.path FROM rejudged j JOIN items i USING (batch_id, n) WHERE ` + fresh("j.position") + `) j FULL JOIN ` + since("item-rejudged") + ` r ON r.position = j.position
	WHERE j.n IS NULL OR r.position IS NULL OR (r.body ->> 'batch')::bigint IS DISTINCT FROM j.batch_id OR r.body ->> 'item' IS DISTINCT FROM j.path OR r.body ->> 'before' IS DISTINCT FROM j.before
		OR r.body ->> 'verdict' IS DISTINCT FROM j.after OR r.body -> 'grounds' IS DISTINCT FROM j.grounds OR r.body -> 'paths' IS DISTINCT FROM j.paths OR (r.body ->> 'reassessment')::bigint IS DISTINCT FROM j.reassessment_id
	UNION ALL
	SELECT coalesce(r.position, a.position, -1), 'reassessment ' || coalesce(a.id, (r.body ->> 'reassessment')::bigint) || ': ' || CASE
		WHEN a.id IS NULL THEN ` + missing + ` WHEN r.position IS NULL THEN ` + extra + ` ELSE 'the row is not what its record says' END
	FROM (SELECT * FROM reassessments WHERE state IS DISTINCT FROM 'waiting' AND ` + fresh("position") + `) a FULL JOIN ` + since("reassessed") + ` r ON r.position = a.position
	WHERE a.id IS NULL OR r.position IS NULL OR (r.body ->> 'reassessment')::bigint IS DISTINCT FROM a.id OR r.body ->> 'reason' IS DISTINCT FROM a.reason OR r.by_name IS DISTINCT FROM a.asked_by
		OR (r.body ->> 'items')::int IS DISTINCT FROM a.items OR (r.body ->> 'changed')::int IS DISTINCT FROM a.changed OR (r.body ->> 'policy')::bigint IS DISTINCT FROM a.policy_version
		OR r.body -> 'selection' IS DISTINCT FROM a.selection OR coalesce(r.body ->> 'state', 'done') IS DISTINCT FROM a.state OR coalesce(r.body ->> 'note', '') IS DISTINCT FROM a.note
		OR ` + unequal("a.finished_at", "r.at") + ` OR ` + unequal("a.created_at", "(r.body ->> 'judged_as_of')::timestamptz")}

// recordRows holds what stands beside a record's text against the text.
var recordRows = consequence{"what lists show of records", `
	SELECT r.position, 'record ' || r.position || ': what stands beside its text is not what the text says' AS what
	FROM (SELECT position, at, by_name, kind, subject, verdict, batch_id, convert_from(body, 'UTF8')::jsonb AS body FROM ledger_records WHERE position >= {from}) r
	WHERE r.kind IS DISTINCT FROM r.body ->> 'kind' OR r.by_name IS DISTINCT FROM r.body ->> 'by' OR ` + unequal("r.at", "(r.body ->> 'at')::timestamptz") + `
		OR r.subject IS DISTINCT FROM coalesce(r.body ->> 'subject', r.subject)
		OR coalesce(r.verdict, '') IS DISTINCT FROM CASE WHEN r.kind IN ('item-outcome', 'batch-result', 'item-rejudged', 'drill') THEN coalesce(r.body ->> 'verdict', '') ELSE '' END
		OR r.batch_id IS DISTINCT FROM CASE WHEN r.kind IN ('item-outcome', 'batch-result', 'item-rejudged', 'drill', 'visit-returned') THEN (r.body ->> 'batch')::bigint
			WHEN r.kind = 'reassessed' THEN (r.body -> 'selection' ->> 'batch')::bigint END
	UNION ALL
	SELECT -1, 'the ledger is said to have another size than it has' WHERE (SELECT {from} + count(*) FROM ledger_records WHERE position >= {from}) IS DISTINCT FROM (SELECT s.size FROM ledger_state s)`}

// AbsentEntries returns the digest over what manifests of a batch list that is
// not there.
func (s Reads) AbsentEntries(ctx context.Context, batch int64) (string, error) {
	var out string
	err := s.q.GetContext(ctx, &out, `SELECT `+absentDigest+` FROM batches b WHERE b.id = $1`, batch)
	return out, explain(err)
}

// consequences lists what is compared, in the order in which it is; the ledger's
// own table first, since the others rest on it.
func consequences() []consequence {
	return []consequence{
		recordRows, adoptionRows, peopleRows, tokenRows, deviceRows, deviceKindRows, satchelRows,
		batchRows, renamedRows, outcomeRows, copyRows, searchedRows, rejudgedRows,
	}
}

// Differences holds the tables against the records that do not come from what is judged by, both
// ways, and returns the first of each that differ. Of batches, outcomes and what was judged again
// it looks at the records from a position on, and at the rows that follow from them; the verdicts
// of a day are counted from the first record on alone.
func (s Reads) Differences(ctx context.Context, from int64, each func(of string)) ([]Difference, error) {
	out := []Difference{}
	for _, c := range consequences() {
		each(c.of)
		found, err := s.differences(ctx, c, from)
		if err != nil {
			return nil, fmt.Errorf("comparing %s with the records: %w", c.of, err)
		}
		out = append(out, found...)
	}
	return out, nil
}

func (s Reads) differences(ctx context.Context, c consequence, from int64) ([]Difference, error) {
	out := []Difference{}
	err := s.q.SelectContext(ctx, &out, `SELECT position, what FROM (`+strings.ReplaceAll(c.sql, "{from}", strconv.FormatInt(from, 10))+`) differing ORDER BY position LIMIT 5`)
	return out, explain(err)
}
