package survey

import (
	"io/fs"

	"endeixis/core/container"
)

// CheckNames holds what is said by hand about a folder against the files that it
// names, and looks at no other. It fails with a [*CorrectionError] or an
// [*OriginError]. Names inside containers are left to [Plan]: finding them takes
// a look into those.
func CheckNames(folder fs.FS, opts Options) error {
	g := &gatherer{folder: folder, limits: opts.Limits.withDefaults(), out: &Findings{}}
	seen := map[string]bool{}
	look := func(name string) {
		if seen[name] || !fs.ValidPath(name) || inContainer(name) {
			return
		}
		seen[name] = true
		if info, err := fs.Stat(folder, name); err == nil && !info.IsDir() {
			g.out.Files = append(g.out.Files, g.look(name, fs.FileInfoToDirEntry(info)))
		}
	}
	for _, c := range opts.Corrections {
		look(c.Signature)
		look(c.File)
	}
	for of := range opts.Origins {
		look(of)
	}
	for _, c := range opts.Copies {
		look(c.Of)
	}
	s := newPlanner(g.out, g.limits)
	for _, c := range opts.Corrections {
		if inContainer(c.Signature) || inContainer(c.File) {
			continue
		}
		if err := s.correct(c); err != nil {
			return err
		}
	}
	for of := range opts.Origins {
		if !inContainer(of) && !s.isManifest(of) {
			return &OriginError{of}
		}
	}
	for _, c := range opts.Copies {
		if !inContainer(c.Of) && !s.isManifest(c.Of) {
			return &OriginError{c.Of}
		}
	}
	return nil
}

func inContainer(name string) bool { return container.Outermost(name) != name }
