package config

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func write(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "endeixis.yaml")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func TestLayers(t *testing.T) {
	path := write(t, "listen: 127.0.0.1:9\ndatabase:\n  url: postgres://e:secret@db/endeixis\nledger:\n  key_file: keys/ledger.key\ndepots:\n  quayside: .\nwork:\n  slice_items: 5\n")
	t.Setenv("ENDEIXIS_WORK__SLICE_ITEMS", "7")
	t.Setenv("ENDEIXIS_TOKEN", "of the client")
	c, err := Load(path)
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.1:9", c.Listen)
	assert.Equal(t, 7, c.Work.SliceItems, "the environment wins")
	assert.EqualValues(t, 256<<20, c.Work.SliceBytes, "the default stays")
	assert.Equal(t, filepath.Join(filepath.Dir(path), "keys/ledger.key"), c.Ledger.KeyFile, "paths are relative to the file")
	from := map[string]string{}
	shown := map[string]string{}
	for _, s := range c.Settings {
		from[s.Path], shown[s.Path] = s.Source, s.Value
	}
	assert.Equal(t, "environment", from["work.slice_items"])
	assert.Equal(t, path, from["listen"])
	assert.Equal(t, "default", from["work.slice_bytes"])
	assert.Equal(t, "postgres://e:…@db/endeixis", shown["database.url"])
}

func TestMistakes(t *testing.T) {
	const db = "database: {url: x}\n"
	for text, says := range map[string]string{
		"listen: x\n":                         "database.url is not set",
		db + "lisen: x\n":                     "do not exist: lisen",
		db + "depots: {Big_Quay: .}\n":        "small letters",
		db + "depots: {a--b: .}\n":            "small letters",
		db + "depots: {quay: /no/such/dir}\n": "depot quay",
		db + "name: two words\n":              "not a host name",
		db + "work: {slice_bytes: 0}\n":       "at least 1",
		db + "work: {workers: many}\n":        "does not fit",
		": : :":                               "reading the configuration",
	} {
		_, err := Load(write(t, text))
		assert.ErrorContains(t, err, says, text)
	}
	_, err := Load(filepath.Join(t.TempDir(), "none.yaml"))
	assert.Error(t, err)
}
