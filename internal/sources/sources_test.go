package sources

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/internal/depots"
	"endeixis/internal/fault"
)

// TestSources makes a source of each kind, and says who reads it and on which queue it waits.
func TestSources(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "in", "empty"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "in", "a.img"), []byte("abc"), 0o600))
	s := New(depots.New(map[string]string{"quayside": dir, "attic": t.TempDir()}))
	assert.Equal(t, []string{measurerQueue, "depot-attic", "depot-quayside"}, s.Queues())

	folder, err := OfDepot("quayside", "./in/")
	require.NoError(t, err)
	assert.Equal(t, Source{Depot, "quayside:in"}, folder)
	depot, path := folder.Folder()
	assert.Equal(t, []string{"quayside", "in"}, []string{depot, path})
	assert.False(t, folder.HasMeasurer())
	assert.Contains(t, s.Queues(), Queue(folder), "who has the depot works on its queue")
	_, err = OfDepot("quayside", "../x")
	assert.True(t, fault.Is(err, fault.FolderOutsideDepot))

	for _, kind := range []Kind{Client, Console} {
		measured, err := OfMeasurer(kind, "pier-3", "/mnt/a:b")
		require.NoError(t, err)
		assert.True(t, measured.HasMeasurer())
		assert.Equal(t, "pier-3", measured.Host())
		assert.Equal(t, measurerQueue, Queue(measured))
		depot, path = measured.Folder()
		assert.Empty(t, depot+path)
		_, err = s.Open(measured)
		assert.True(t, fault.Is(err, fault.SourceUnreadable))
	}
	device := OfDevice("KG-07")
	assert.Equal(t, Devices, Queue(device))
	assert.False(t, device.HasMeasurer())
	_, err = s.Open(device)
	assert.True(t, fault.Is(err, fault.SourceUnreadable))

	_, err = OfMeasurer(Depot, "pier-3", "/x")
	assert.True(t, fault.Is(err, fault.MeasurerUnknown))
	for _, bad := range [][2]string{{"", "/x"}, {"a:b", "/x"}, {"pier\x00", "/x"}, {"pier", "a\x00b"}} {
		_, err = OfMeasurer(Client, bad[0], bad[1])
		assert.Error(t, err, "%q", bad)
	}

	for at, empty := range map[string]bool{"in": false, "in/empty": true} {
		opened, err := s.Open(Source{Depot, "quayside:" + at})
		require.NoError(t, err)
		is, err := opened.Empty()
		require.NoError(t, err)
		assert.Equal(t, empty, is, at)
		require.NoError(t, opened.Close())
	}
	_, err = s.Open(Source{Depot, "cellar:"})
	assert.True(t, fault.Is(err, fault.DepotUnknown))
}
