package measurer

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"endeixis/core/readback"
)

// Media lists the media of this machine with what tells them apart. root is where the
// system's folders are, "/" but for tests. What cannot be read of one is left empty.
func Media(root string) ([]readback.Medium, error) {
	dir := filepath.Join(root, "sys/class/block")
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	out := []readback.Medium{}
	for _, e := range entries {
		if _, err := os.Stat(filepath.Join(dir, e.Name(), "partition")); err == nil {
			continue // it is a part of one
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name(), "size"))
		sectors, wrong := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
		if err != nil || wrong != nil || sectors <= 0 {
			continue // nothing is in it
		}
		m := readback.Medium{Name: filepath.Join(root, "dev", e.Name()), Size: sectors * 512}
		m.Model, m.Serial = identityIn(filepath.Join(dir, e.Name()))
		if opened, err := OpenMedium(m.Name); err == nil {
			if found := readback.Recognise(opened); len(found) > 0 {
				m.Label = found[0].Label
			}
			opened.Close()
		}
		out = append(out, m)
	}
	slices.SortFunc(out, func(a, b readback.Medium) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}
