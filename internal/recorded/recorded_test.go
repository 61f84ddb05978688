package recorded

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/ledger"
	"endeixis/core/measure"
	"endeixis/core/openpgp"
	"endeixis/core/survey"
	"endeixis/internal/sources"
	"endeixis/internal/state"
	"endeixis/internal/store"
)

var began = time.Date(2026, 3, 1, 8, 0, 0, 0, time.UTC)

const fp = openpgp.Fingerprint("0123456789abcdef0123456789abcdef01234567")

// life is the life of a key, a publisher, a waiver and a policy, as records say.
func life() []Body {
	until := began.AddDate(0, 1, 0)
	return []Body{
		PolicySet{Name: DefaultPolicy, Version: 1, Policy: []byte(`{"digest_bits":112}`)},
		PublisherAdded{Slug: "quoin", Name: "Quoin", Scope: []string{"quoin-*"}},
		KeyImported{
			Fingerprint: fp, Result: keyring.NewlyArrived, Publisher: "quoin", Source: "a page", UserIDs: []string{},
			Certificate: []byte("one"), Stored: "11",
		},
		Sighting{Fingerprint: fp, Read: fp, Agrees: true, Channel: keyring.Letter, Place: "a letter"},
		Sighting{Fingerprint: fp, Read: "f" + fp[1:], Channel: keyring.Mirror, Place: "a mirror"},
		AdmissionProposed{Fingerprint: fp, Publisher: "quoin", Role: keyring.Release, Reason: "seen"},
		AdmissionProposed{Fingerprint: fp, Publisher: "quoin", Role: keyring.Anchor, Reason: "better"},
		ConflictResolved{Fingerprint: fp, Sighting: 4, Read: "f" + fp[1:], Reason: "a slip"},
		KeyStep{
			Fingerprint: fp, From: keyring.Candidate, To: keyring.Admitted, Publisher: "quoin", Role: keyring.Anchor,
			Reason: "both agree", Sightings: []int64{3}, Anchors: []openpgp.Fingerprint{},
		},
		WaiverGranted{Ground: "manifest-unsigned", Publisher: "quoin", Until: until, Reason: "they will sign"},
		WaiverEnded{Waiver: 1, Record: 9, Reason: "they sign"},
		PublisherChanged{
			Before: Publisher{Slug: "quoin"},
			After:  Publisher{Slug: "quoin", Name: "Quoin Works", Scope: []string{"quoin-*", "q-*"}},
		},
		KeyImported{
			Fingerprint: fp, Result: keyring.Updated, Source: "a mirror", UserIDs: []string{},
			Certificate: []byte("two"), Stored: "22",
		},
		PolicySet{
			Name: OfPublisher + "quoin", Version: 2, Policy: []byte(`{"digest_bits":128,"rsa_bits":4096}`),
			Own: []string{"rsa_bits"}, Reason: "stronger",
		},
		KeyStep{Fingerprint: fp, From: keyring.Admitted, To: keyring.Withdrawn, Publisher: "quoin", Reason: "stolen"},
		ProposalDeclined{Fingerprint: fp, Proposal: 6, Reason: "none waits"},
	}
}

// written returns the text of a record, as the ledger has it.
func written(t *testing.T, position int64, b Body) []byte {
	t.Helper()
	head, err := json.Marshal(
		Head{
			Kind: b.Kind(), At: began.Add(time.Duration(position) * time.Hour), By: "ines", Software: "a test",
			Subject: "x",
		},
	)
	require.NoError(t, err)
	body, err := json.Marshal(b)
	require.NoError(t, err)
	return append(append(head[:len(head)-1], ','), body[1:]...)
}

func eventsOf(t *testing.T, bodies []Body) []Event {
	t.Helper()
	var out []Event
	for i, b := range bodies {
		h, read, err := Read(int64(i), written(t, int64(i), b))
		require.NoError(t, err)
		out = append(out, Event{h, read})
	}
	return out
}

// TestBasis follows a life: what counts is what the last record says, whichever way it was read,
// and an earlier one is as it was then.
func TestBasis(t *testing.T) {
	t.Parallel()
	events := eventsOf(t, life())
	b := NewBasis(nil).With(events...)
	assert.EqualValues(t, len(events), b.Decisions)
	k := b.Keys[string(fp)]
	assert.Equal(t, "22", k.Digest)
	assert.Equal(t, "quoin", k.Row.Publisher)
	assert.Equal(t, "anchor", k.Row.Role)
	assert.EqualValues(t, 12, k.Row.Position)
	steps, sightings, proposals := b.About(fp.Bytes())
	require.Len(t, steps, 2)
	assert.Equal(t, "withdrawn", steps[1].To)
	assert.Len(t, sightings, 2)
	assert.Empty(t, proposals)
	assert.Equal(
		t, []string{"replaced", "admitted"}, []string{b.Proposals[0].Decided, b.Proposals[1].Decided},
		"nothing waited that could be declined",
	)
	assert.Empty(t, b.Conflicts())
	assert.Equal(t, "they sign", b.Waivers[0].EndReason)
	assert.Equal(t, "Quoin Works", b.Publishers["quoin"].Name)
	assert.Equal(t, began.Add(time.Hour), b.Publishers["quoin"].CreatedAt)
	assert.JSONEq(t, `{"rsa_bits":4096}`, string(b.Policies[1].Document))
	assert.Len(t, b.PoliciesAt(1), 1)
	// Piece by piece it is the same, and what was before is not changed by it.
	step := NewBasis(nil)
	var all []*Basis
	for _, e := range events {
		step = step.With(e)
		all = append(all, step)
	}
	assert.Equal(t, b.Keys, step.Keys)
	assert.Equal(t, b.Waivers, step.Waivers)
	assert.Equal(t, b.Sightings, step.Sightings)
	assert.Nil(t, all[9].Waivers[0].EndedAt)
	assert.Len(t, all[6].Conflicts(), 1)
	assert.Equal(t, "release", all[4].Keys[string(fp)].Row.Role)
	assert.Empty(t, all[5].Proposals[0].Decided)
}

// TestCompare names rows that are missing, altered, too many, or there twice.
func TestCompare(t *testing.T) {
	t.Parallel()
	b := NewBasis(nil).With(eventsOf(t, life())...)
	for _, table := range store.BasisTables() {
		whole := func() []store.StoredRow {
			var out []store.StoredRow
			for _, r := range b.rows(table.Name) {
				s := store.StoredRow{Key: r.key, Position: r.position}
				for _, f := range r.fields {
					text := f.text
					s.Fields = append(s.Fields, &text)
					if f.null {
						s.Fields[len(s.Fields)-1] = nil
					}
				}
				out = append(out, s)
			}
			return out
		}
		require.NotEmpty(t, whole(), table.Name)
		require.Empty(t, b.Compare(table, whole(), -1), table.Name)
		assert.NotEmpty(t, b.Compare(table, whole()[1:], -1), "%s: one less", table.Name)
		assert.NotEmpty(t, b.Compare(table, append(whole(), whole()[0]), -1), "%s: one twice", table.Name)
		assert.NotEmpty(t, b.Compare(table, append(whole(), store.StoredRow{Key: "x"}), -1), "%s: one more", table.Name)
		for i := range whole()[0].Fields {
			rows, other := whole(), "x"
			rows[0].Fields[i] = &other
			assert.NotEmpty(t, b.Compare(table, rows, -1), "%s, field %d", table.Name, i)
			rows = whole()
			if rows[0].Fields[i] = nil; whole()[0].Fields[i] != nil {
				assert.NotEmpty(t, b.Compare(table, rows, -1), "%s, field %d is none", table.Name, i)
			}
		}
	}
}

// TestOddRecords: a record with a member missing, doubled or of another type is read as it can be,
// or told; it never ends more than itself.
func TestOddRecords(t *testing.T) {
	t.Parallel()
	bodies, tried := life(), 0
	whole := eventsOf(t, bodies)
	nothing := func(store.PlacedTable) ([]store.StoredRow, error) { return nil, nil }
	for i, body := range append(bodies, happened()...) {
		text := written(t, int64(i), body)
		var members map[string]json.RawMessage
		require.NoError(t, json.Unmarshal(text, &members))
		for name := range members {
			odd := []map[string]json.RawMessage{}
			for _, value := range []string{"", "null", "7", `"x"`, "[]", "{}", "true", "-1", "1e400", `"2026-13-45T99:00:00Z"`, `["x", 7]`} {
				other := map[string]json.RawMessage{}
				for k, v := range members {
					if k != name || value != "" {
						other[k] = v
					}
				}
				if value != "" {
					other[name] = json.RawMessage(value)
				}
				odd = append(odd, other)
			}
			for _, o := range odd {
				forged, err := json.Marshal(o)
				if err != nil {
					continue
				}
				tried++
				h, read, err := Read(int64(i), forged)
				if err != nil {
					continue
				}
				events := append(append([]Event{}, whole[:min(i, len(whole))]...), Event{h, read})
				events = append(events, whole[min(i+1, len(whole)):]...)
				b := NewBasis(nil).With(events...)
				for _, table := range store.BasisTables() {
					b.Compare(table, nil, -1)
				}
				f := NewFollower()
				f.Keep(h, read)
				differ, err := f.Compare([]store.Record{{Position: h.Position, Body: forged}}, nothing, -1)
				require.NoError(t, err)
				assert.NotEmpty(t, differ, "a record without its rows")
				for _, table := range store.KeptTables() {
					f.Whole(table, nil)
				}
			}
			doubled := append(append([]byte{'{'}, fmt.Sprintf("%q:%s,", name, members[name])...), text[1:]...)
			h, read, err := Read(int64(i), doubled)
			require.NoError(t, err)
			assert.Equal(t, int64(i), h.Position)
			assert.Equal(t, reflect.TypeOf(body), reflect.TypeOf(read))
		}
	}
	assert.Greater(t, tried, 500)
	for _, text := range []string{"", "{", "null", "[]", `{"kind":"no-such"}`, `{"kind":7}`} {
		_, _, err := Read(1, []byte(text))
		assert.Error(t, err, text)
	}
	assert.Len(t, kinds, len(ledger.Kinds()))
	for _, kind := range ledger.Kinds() {
		assert.Contains(t, kinds, kind)
	}
}

// happened has a body of each kind that decides nothing, and what was adopted.
func happened() []Body {
	o := ItemOutcome{Batch: 1}
	if err := o.Put(Evidence{
		Item: &survey.Item{Path: "a.bin", Role: survey.Artifact, Size: 3},
		Measurement: measure.Measurement{
			Size: 3, Digests: map[digest.Algorithm]digest.Value{digest.SHA256: make(digest.Value, 32)},
		},
		Outcome: judge.Outcome{
			Path: "a.bin", Role: survey.Artifact,
			Verdict: judge.Cleared, Grounds: []judge.Ground{{
				Code: judge.DigestMatch, Source: "list", Algorithm: digest.SHA256, Sentence: "It is.",
			}},
			Paths: []judge.ProofPath{{Kind: judge.SignedManifest, Complete: true, Links: []judge.Link{
				{Kind: "key", Ref: "00AA"}, {Kind: "publisher", Ref: "quoin"},
			}}},
		},
	}); err != nil {
		panic(err)
	}
	publisher, hash, made := "quoin", "00", int64(1)
	who := Person{Name: "ines", FullName: &publisher, Role: "operator", Password: &hash}
	return []Body{
		RowsAdopted{},
		o,
		ItemRejudged{
			Reassessment: 1, Batch: 1, Item: "a.bin", Before: judge.Cleared, Verdict: judge.Refused,
			Grounds: []byte("[]"), Paths: []byte("[]"),
		},
		BatchRejudged{Reassessment: 1, Batch: 1, Verdict: judge.Cleared, Cleared: 1, Changed: 1, Reason: "a test"},
		Reassessed{Reassessment: 1, Selection: []byte(`{"batch":1}`), Reason: "a test"},
		BatchResult{
			Batch: 1, Source: sources.Source{Kind: sources.Depot, Reference: "quayside:a"}, State: state.BatchDone,
			Verdict: judge.Cleared, Items: 1, Publisher: &publisher, Expected: []byte("null"),
			Corrections: []byte("{}"), Origins: []byte("{}"),
		},
		BatchCancelled{Batch: 1, Reason: "a test"},
		Drilled{Batch: 1, Items: []DrilledItem{}},
		UserAdded{who},
		UserChanged{who},
		TokenIssued{Token: 1, Owner: "ines", Hash: &hash, MadeWith: &made},
		TokenRevoked{Token: 1},
		DeviceSet{Device: Device{Name: "LP-1"}},
		DeviceKindSet{DeviceKind: DeviceKind{Name: "lamp"}},
		SatchelPacked{Satchel: "s", Packed: []byte("{}")},
		Settlement{Batch: 1, Reason: "known"},
		Settlement{Key: fp, Reason: "known"},
		ReferenceNoted{
			Publisher: "tidewright", Name: "gauge-3.0.img", Digest: make([]byte, 32), Channel: keyring.Letter, Place: "a letter",
		},
		VisitReturned{Batch: 1, Satchel: "s", OnSite: judge.Cleared, JudgedBy: "keeper"},
		LedgerRestored{},
		Audited{},
		KeyRotated{},
		KeyLost{},
	}
}

// TestPlaced: what a record says is held against the rows that follow from it, both ways.
func TestPlaced(t *testing.T) {
	t.Parallel()
	var page []store.Record
	rows := map[string][]store.StoredRow{}
	for i, body := range happened() {
		r := store.Record{Position: int64(i), Body: written(t, int64(i), body)}
		page = append(page, r)
		made, err := NewFollower().follows(r)
		require.NoError(t, err, body.Kind())
		for _, m := range made {
			stored := store.StoredRow{Key: m.key, Position: m.position}
			for _, f := range m.fields {
				value := f.text
				switch {
				case f.oneOf != nil:
					value = f.oneOf[0]
				case f.near != nil:
					value = moment(f.near.Add(rounded / 2)).text
				}
				if stored.Fields = append(stored.Fields, &value); f.null {
					stored.Fields[len(stored.Fields)-1] = nil
				}
			}
			rows[m.table] = append(rows[m.table], stored)
		}
	}
	compare := func(rows map[string][]store.StoredRow) []store.Discrepancy {
		out, err := NewFollower().Compare(
			page, func(t store.PlacedTable) ([]store.StoredRow, error) { return rows[t.Name], nil }, -1,
		)
		require.NoError(t, err)
		return out
	}
	require.Empty(t, compare(rows))
	for _, table := range store.PlacedTables() {
		require.NotEmpty(t, rows[table.Name], table.Name)
		other := maps.Clone(rows)
		other[table.Name] = rows[table.Name][1:]
		assert.NotEmpty(t, compare(other), "%s: one less", table.Name)
		last := rows[table.Name][len(rows[table.Name])-1]
		other[table.Name] = append(slices.Clone(rows[table.Name]), last)
		assert.NotEmpty(t, compare(other), "%s: one twice", table.Name)
		for i, field := range last.Fields {
			changed := last
			changed.Fields = slices.Clone(last.Fields)
			text := "another"
			changed.Fields[i] = &text
			other[table.Name] = append(slices.Clone(rows[table.Name][:len(rows[table.Name])-1]), changed)
			assert.NotEmpty(t, compare(other), "%s, field %d", table.Name, i)
			if field != nil {
				changed.Fields[i] = nil
				assert.NotEmpty(t, compare(other), "%s, field %d is none", table.Name, i)
			}
		}
	}
}
