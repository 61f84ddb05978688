package survey

import (
	"io/fs"
	"maps"
	"slices"

	"endeixis/core/container"
)

// CheckNames holds what is said by hand about a folder against the files that it
// names, and looks at no other. It fails with a [*CorrectionError] or an
// [*ProvenanceError]. Names inside containers are left to [Plan]: finding them takes
// a look into those.
func CheckNames(folder fs.FS, opts Options) error {
	corrections := slices.DeleteFunc(
		slices.Clone(opts.Corrections),
		func(c Correction) bool { return inContainer(c.Signature) || inContainer(c.File) },
	)
	origins := maps.Clone(opts.Provenance)
	maps.DeleteFunc(origins, func(of string, _ Provenance) bool { return inContainer(of) })
	copies := slices.DeleteFunc(slices.Clone(opts.Copies), func(c Copy) bool { return inContainer(c.Of) })

	names := slices.Collect(maps.Keys(origins))
	for _, c := range corrections {
		names = append(names, c.Signature, c.File)
	}
	for _, c := range copies {
		names = append(names, c.Of)
	}
	slices.Sort(names)
	g := &gatherer{folder: folder, limits: opts.Limits.withDefaults(), out: &Findings{}}
	for _, name := range slices.Compact(names) {
		if !fs.ValidPath(name) {
			continue
		}
		if info, err := fs.Stat(folder, name); err == nil && !info.IsDir() {
			g.out.Files = append(g.out.Files, g.look(name, fs.FileInfoToDirEntry(info)))
		}
	}
	s := newPlanner(g.out, g.limits)
	for _, c := range corrections {
		if err := s.correct(c); err != nil {
			return err
		}
	}
	return s.checkManifests(origins, copies)
}

func inContainer(name string) bool { return container.Outermost(name) != name }
