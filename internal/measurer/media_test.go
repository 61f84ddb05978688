package measurer_test

import (
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/readback"
	"endeixis/internal/measurer"
)

// TestMedia: media are told apart by size, model and label; parts of them, and drives with
// nothing in them, are none.
func TestMedia(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("media are listed on Linux alone")
	}
	root := t.TempDir()
	write := func(name, content string) {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	write("sys/class/block/sdb/size", "62333952\n")
	write("sys/class/block/sdb/device/vendor", "Skerrow \n")
	write("sys/class/block/sdb/device/model", "Stick 32\n")
	write("sys/class/block/sdb1/size", "2048\n")
	write("sys/class/block/sdb1/partition", "1\n")
	write("sys/class/block/sr0/size", "0\n")
	write("sys/class/block/sda/size", "1000\n")
	image := make([]byte, 64<<10)
	copy(image[1024+56:], []byte{0x53, 0xef})
	image[1024+4] = 64
	copy(image[1024+120:], "charts")
	write("dev/sda", string(image))
	media, err := measurer.Media(root)
	require.NoError(t, err)
	assert.Equal(t, []readback.Medium{
		{Name: filepath.Join(root, "dev/sda"), Size: 512_000, Label: "charts"},
		{Name: filepath.Join(root, "dev/sdb"), Size: 62333952 * 512, Model: "Skerrow Stick 32"},
	}, media)
	_, err = measurer.Media(filepath.Join(root, "nothing"))
	assert.Error(t, err)
}
