package devices

import (
	"embed"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"endeixis/core/device"
)

//go:embed kinds/*.yaml
var shipped embed.FS

// Kinds reads the descriptions that are shipped, and those in a folder, which may be
// empty for none. One in the folder takes the place of one that is shipped.
func Kinds(folder string) (map[string]Described, error) {
	out := map[string]Described{}
	names, err := shipped.ReadDir("kinds")
	if err != nil {
		return nil, err
	}
	for _, entry := range names {
		text, err := shipped.ReadFile("kinds/" + entry.Name())
		if err != nil {
			return nil, err
		}
		k, err := device.ParseKind(entry.Name(), text)
		if err != nil {
			return nil, err
		}
		out[k.Name] = Described{Kind: k, Text: string(text), Shipped: true}
	}
	if folder == "" {
		return out, nil
	}
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("the folder of kinds of devices: %w", err)
	}
	for _, entry := range entries {
		if entry.IsDir() || !strings.HasSuffix(entry.Name(), ".yaml") {
			continue
		}
		file := filepath.Join(folder, entry.Name())
		text, err := os.ReadFile(file)
		if err != nil {
			return nil, err
		}
		k, err := device.ParseKind(file, text)
		if err != nil {
			return nil, err
		}
		if other, twice := out[k.Name]; twice && !other.Shipped {
			return nil, fmt.Errorf("%s: a kind %s is described by another file too", file, k.Name)
		}
		out[k.Name] = Described{Kind: k, Text: string(text)}
	}
	return out, nil
}
