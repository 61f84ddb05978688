package store

import "context"

// A ComparedItem is what two batches are compared by.
type ComparedItem struct {
	N       int     `db:"n"`
	Path    string  `db:"path"`
	Size    int64   `db:"size"`
	SHA256  []byte  `db:"digest"`
	Verdict *string `db:"verdict"`
}

// ComparedItems lists the items of a batch with their SHA-256 digests and the verdicts that they have by now.
func (s Reads) ComparedItems(ctx context.Context, batch int64) ([]ComparedItem, error) {
	out := []ComparedItem{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT i.n, i.path, i.size, d.digest, coalesce(`+newest("after", "o")+`, o.verdict) AS verdict
		FROM items i LEFT JOIN outcomes o ON o.batch_id = i.batch_id AND o.n = i.n
			LEFT JOIN outcome_digests d ON d.batch_id = i.batch_id AND d.n = i.n AND d.algorithm = 'SHA-256'
		WHERE i.batch_id = $1 ORDER BY i.n`, batch,
	)
	return out, explain(err)
}

// SignersOf lists the primary keys by whose signatures something of a batch is cleared still.
func (s Reads) SignersOf(ctx context.Context, batch int64) ([]string, error) {
	out := []string{}
	err := s.q.SelectContext(
		ctx, &out, `SELECT DISTINCT k.key FROM library l CROSS JOIN LATERAL jsonb_array_elements_text(l.signers) k (key)
		WHERE l.batch_id = $1 AND `+stillInLibrary+` ORDER BY 1`, batch,
	)
	return out, explain(err)
}
