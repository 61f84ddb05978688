// Package version says which version of the software this is.
package version

import (
	"runtime/debug"
	"sync"
)

// Version is the version of this program.
const Version = "0.2.0"

// Full returns the version with the revision that the program was built from,
// where that is known, such as “0.1.0+3f2a9c1d04be”; with “.changed” behind it if
// the files had been changed. It is recorded with every outcome.
func Full() string { return known() }

// known reads what the program was built from once: reading takes a while, and
// every record says it.
var known = sync.OnceValue(func() string {
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return Version
	}
	return full(info.Settings)
})

func full(settings []debug.BuildSetting) string {
	out, changed := Version, false
	for _, s := range settings {
		switch s.Key {
		case "vcs.revision":
			out += "+" + s.Value[:min(12, len(s.Value))]
		case "vcs.modified":
			changed = s.Value == "true"
		}
	}
	if changed && out != Version {
		out += ".changed"
	}
	return out
}
