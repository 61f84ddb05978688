package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
)

// A StoredRow is a row as it is stored, in texts: what no record can say is a text too.
type StoredRow struct {
	// Key names the row within its table, and Position is that of the record that it says it
	// follows from, or -1.
	Key      string `db:"key"`
	Position int64  `db:"position"`
	// Adopted is set for a row of an earlier version that was adopted as it is.
	Adopted bool `db:"adopted"`
	// Fields are its columns, as [BasisTables] lists them; nil where there is none.
	Fields []*string `db:"-"`
}

// A BasisTable is a table of which every row follows from records that decide.
type BasisTable struct {
	Name string
	// Of names the rows, for people.
	Of  string
	sql string
}

// fields writes columns as a list of texts.
func fields(columns ...string) string {
	return "jsonb_build_array((" + strings.Join(columns, ")::text, (") + ")::text)::text AS fields"
}

// BasisTables lists them, in the order in which they are compared. Rows come in the order in
// which they were made.
func BasisTables() []BasisTable {
	hex := func(column string) string { return "encode(" + column + ", 'hex')" }
	digest := func(column string) string { return "encode(sha256(" + column + "), 'hex')" }
	return []BasisTable{
		{"policies", "the policy", `SELECT version::text AS key, -1::bigint AS position, false AS adopted, ` + fields("name", "document", "created_at", "created_by", "reason") + ` FROM policies ORDER BY version`},
		{"waivers", "waivers", `SELECT position::text AS key, position, false AS adopted, ` +
			fields("ground", "publisher", "pattern", "reason", "by_name", "created_at", "until", "ended_at", "ended_by", "end_reason") + ` FROM waivers ORDER BY position, id`},
		{"publishers", "publishers", `SELECT p.slug AS key, p.position, ` + isAdopted("publisher_versions", "p.slug || ' ' || p.revision", publisherVersionDigest("p")) + ` AS adopted, ` +
			fields("p.name", "p.contact", "to_json(p.scope)", "p.created_at", "p.created_by") + ` FROM publishers p ORDER BY p.id`},
		{"publisher_versions", "earlier versions of publishers", `SELECT p.slug || ' ' || v.position AS key, v.position, ` + isAdopted("publisher_versions", "p.slug || ' ' || v.revision", publisherVersionDigest("v")) + ` AS adopted, ` +
			fields("v.name", "to_json(v.scope)") + ` FROM publisher_versions v LEFT JOIN publishers p ON p.id = v.publisher_id ORDER BY v.publisher_id, v.revision`},
		{"keys", "keys", `SELECT ` + hex("k.fingerprint") + ` AS key, k.position, ` + isAdopted("key_versions", keyVersionName("k"), keyVersionDigest("k")) + ` AS adopted, ` +
			fields(digest("k.certificate"), "coalesce(p.slug, '')", "k.role", "k.imported_at", "k.imported_by", "k.source") + ` FROM keys k LEFT JOIN publishers p ON p.id = k.publisher_id ORDER BY k.fingerprint`},
		{"key_versions", "earlier versions of keys", `SELECT ` + hex("v.fingerprint") + ` || ' ' || v.position AS key, v.position, ` + isAdopted("key_versions", keyVersionName("v"), keyVersionDigest("v")) + ` AS adopted, ` +
			fields(digest("v.certificate"), "coalesce(p.slug, '')", "v.role") + ` FROM key_versions v LEFT JOIN publishers p ON p.id = v.publisher_id ORDER BY v.fingerprint, v.revision`},
		{"key_changes", "steps of keys", `SELECT position::text AS key, position, false AS adopted, ` + fields(hex("fingerprint"), "at", "to_state", "by_name", "reason", "until", "to_json(rests_on)") + ` FROM key_changes ORDER BY id`},
		{"sightings", "sightings", `SELECT position::text AS key, position, false AS adopted, ` +
			fields(hex("fingerprint"), hex("read_value"), "channel", "place", "note", "at", "by_name", "resolved", "resolved_by", "resolved_at") + ` FROM sightings ORDER BY id`},
		{"proposals", "proposals", `SELECT position::text AS key, position, false AS adopted, ` +
			fields(hex("fingerprint"), "publisher", "role", "reason", "by_name", "at", "until", "decided") + ` FROM proposals ORDER BY id`},
	}
}

// BasisRows reads all rows of a table.
func (s Reads) BasisRows(ctx context.Context, t BasisTable) ([]StoredRow, error) {
	rows := []struct {
		Key      *string `db:"key"`
		Position *int64  `db:"position"`
		Adopted  *bool   `db:"adopted"`
		Fields   string  `db:"fields"`
	}{}
	if err := s.q.SelectContext(ctx, &rows, t.sql); err != nil {
		return nil, explain(err)
	}
	out := make([]StoredRow, len(rows))
	for i, r := range rows {
		out[i] = StoredRow{Key: fmt.Sprintf("a row without a key, the %dth", i+1), Position: -1}
		if r.Key != nil {
			out[i].Key = *r.Key
		}
		if r.Position != nil {
			out[i].Position = *r.Position
		}
		out[i].Adopted = r.Adopted != nil && *r.Adopted
		if err := json.Unmarshal([]byte(r.Fields), &out[i].Fields); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// AdoptedAt returns the position of the record of what was adopted, or -1.
func (s Reads) AdoptedAt(ctx context.Context) (int64, error) {
	var position int64
	err := s.q.GetContext(ctx, &position, `SELECT `+adoptedAt)
	return position, explain(err)
}
