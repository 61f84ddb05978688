package survey

import (
	"encoding/json"
	"path"

	"endeixis/core/ledger"
	"endeixis/core/measure"
)

// ProofsFolder is the folder in which receipts go along with files that are handed on.
const ProofsFolder = "endeixis-proofs"

// A RecordedItem is an item of an earlier batch, as its record has it.
type RecordedItem struct {
	Batch       int64
	Item        *Item
	Measurement *measure.Measurement
}

// Recorded returns the item that the record in a receipt is of, or nil where it is of none that
// other files can be held against. Nothing is verified.
func Recorded(r *ledger.Receipt) *RecordedItem {
	var body struct {
		Kind        ledger.Kind          `json:"kind"`
		Batch       int64                `json:"batch"`
		Survey      *Item                `json:"survey"`
		Measurement *measure.Measurement `json:"measurement"`
	}
	if r == nil || json.Unmarshal([]byte(r.Record), &body) != nil || body.Kind != ledger.ItemOutcome ||
		body.Survey == nil ||
		body.Measurement == nil {
		return nil
	}
	if role := body.Survey.Role; role != Manifest && role != Artifact || body.Survey.Against != nil {
		return nil
	}
	return &RecordedItem{body.Batch, body.Survey, body.Measurement}
}

// receiptsOf returns the paths of the receipts of files with the names of those that are
// wanted, and of the lists that these were listed in.
func receiptsOf(plan *Survey, wanted map[string]bool) []string {
	type file struct {
		batch int64
		path  string
	}
	names := map[string]bool{}
	for p := range wanted {
		names[path.Base(p)] = true
	}
	receipts := map[file]string{}
	var out []string
	var lists []file
	for i := range plan.Items {
		r := Recorded(plan.Items[i].Receipt)
		switch {
		case r == nil:
		case r.Item.Role == Manifest:
			receipts[file{r.Batch, r.Item.Path}] = plan.Items[i].Path
		case names[path.Base(r.Item.Path)]:
			out = append(out, plan.Items[i].Path)
			for _, l := range r.Item.Listed {
				lists = append(lists, file{r.Batch, l.Manifest})
			}
		}
	}
	for _, l := range lists {
		if p, ok := receipts[l]; ok {
			out = append(out, p)
		}
	}
	return out
}
