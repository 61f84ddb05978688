package wire

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestComplete: an answer that lacks a member is told with its path; one that has more than is known,
// or leaves out what may be left out, is whole.
func TestComplete(t *testing.T) {
	t.Parallel()
	type inner struct {
		Verdict string     `json:"verdict"`
		Note    string     `json:"note,omitempty"`
		At      *time.Time `json:"at,omitempty"`
	}
	type base struct {
		ID int64 `json:"id"`
	}
	type whole struct {
		base
		Items  []inner          `json:"items"`
		By     map[string]inner `json:"by,omitempty"`
		One    *inner           `json:"one"`
		Raw    json.RawMessage  `json:"raw,omitempty"`
		Hidden string           `json:"-"`
		Since  time.Time        `json:"since"`
	}
	const good = `{"id":1,"items":[{"verdict":"cleared"}],"one":null,"since":"2026-03-01T00:00:00Z"}`
	for text, lacks := range map[string]string{
		good: "",
		strings.Replace(good, `"since"`, `"new":{"a":[1]},"since"`, 1):                          "",
		strings.Replace(good, `"id":1,`, ``, 1):                                                 "id",
		strings.Replace(good, `"since"`, `"then"`, 1):                                           "since",
		strings.Replace(good, `{"verdict":"cleared"}`, `{"verdict":"cleared"},{"note":"x"}`, 1): "items[1].verdict",
		strings.Replace(good, `"one":null`, `"one":{}`, 1):                                      "one.verdict",
		strings.Replace(good, `"one":null`, `"one":null,"by":{"x":{}}`, 1):                      "by.x.verdict",
		strings.Replace(good, `"one":null`, `"one":null,"raw":{}`, 1):                           "",
		`{}`: "id",
	} {
		err := Complete([]byte(text), reflect.TypeFor[whole]())
		if lacks == "" {
			assert.NoError(t, err, text)
			continue
		}
		var missing *Missing
		require.ErrorAs(t, err, &missing, text)
		assert.Equal(t, lacks, missing.Member, text)
	}
	for _, odd := range []string{"", "{", "nothing", `{"id":`} {
		assert.Error(t, Complete([]byte(odd), reflect.TypeFor[whole]()), odd)
	}
}

// TestEveryAnswerIsWhole: what the service writes of every shape says all that a client asks of it, and
// with any member taken away it does not.
func TestEveryAnswerIsWhole(t *testing.T) {
	t.Parallel()
	for _, shape := range []any{
		Batch{},
		Item{},
		ItemRow{},
		Record{},
		Audit{},
		Key{},
		Me{},
		Overview{},
		Checkpoint{},
		Publisher{},
		Survey{},
		Import{},
		Status{},
	} {
		of := reflect.TypeOf(shape)
		text, err := json.Marshal(shape)
		require.NoError(t, err)
		require.NoError(t, Complete(text, of), of.Name())
		var members map[string]json.RawMessage
		require.NoError(t, json.Unmarshal(text, &members))
		for name := range members {
			partial := map[string]json.RawMessage{}
			for k, v := range members {
				if k != name {
					partial[k] = v
				}
			}
			cut, err := json.Marshal(partial)
			require.NoError(t, err)
			var missing *Missing
			assert.ErrorAs(t, Complete(cut, of), &missing, "%s without %s", of.Name(), name)
		}
	}
}

func TestLevelOf(t *testing.T) {
	t.Parallel()
	for header, level := range map[string]int{"": 1, "1": 1, "2": 2, "17": 17, "0": -1, "-3": -1, "x": -1, "1.5": -1, "99999999999999999999": -1} {
		assert.Equal(t, level, LevelOf(header), header)
	}
}
