package store

import (
	"context"
	"strings"
)

// adopted are the rows of earlier versions that were taken as they were, by table, name and
// digest; adoptedAt is where that is recorded. The first such record counts, so that nobody
// can have rows adopted later.
const (
	adopted = `(SELECT e ->> 'table' AS of, e ->> 'name' AS name, e ->> 'digest' AS digest
		FROM (SELECT convert_from(body, 'UTF8')::jsonb AS body FROM ledger_records WHERE kind = 'rows-adopted'
			ORDER BY position LIMIT 1) r CROSS JOIN LATERAL jsonb_array_elements(r.body -> 'rows') e)`
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
	WHERE v.position < 0 OR NOT EXISTS (SELECT FROM ledger_records r WHERE r.position = v.position
	AND r.kind IN ('key-step', 'key-imported') AND (r.kind = 'key-step'
	OR convert_from(r.body, 'UTF8')::jsonb ? 'stored'))
	UNION ALL
	SELECT 'publisher_versions', p.slug || ' ' || v.revision, ` + publisherVersionDigest("v") + `
	FROM publisher_versions v JOIN publishers p ON p.id = v.publisher_id WHERE v.position < 0
	UNION ALL
	SELECT 'users', u.name, ` + personDigest("u") + ` FROM users u
	WHERE NOT coalesce((SELECT convert_from(r.body, 'UTF8')::jsonb ? 'password' FROM ledger_records r
		WHERE r.kind IN ('user-added', 'user-changed') AND r.subject = u.name ORDER BY r.position DESC
		LIMIT 1), false)`

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

// AdoptedAt returns the position of the record of what was adopted, or -1.
func (s Reads) AdoptedAt(ctx context.Context) (int64, error) {
	var position int64
	err := s.q.GetContext(ctx, &position, `SELECT `+adoptedAt)
	return position, explain(err)
}
