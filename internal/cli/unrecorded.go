package cli

import (
	"context"
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"time"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/plain"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// compares are the grounds that mean something where no key counts.
var compares = []judge.Code{judge.DigestMatch, judge.DigestMismatch, judge.SizeMismatch, judge.NotListed}

// unrecorded compares digests of files of a folder without a service. Nobody's key counts
// here, so that nothing can be cleared.
func (a *app) unrecorded(
	ctx context.Context, folder fs.FS, found *survey.Findings, wanted func(path string) bool, expectMatch bool,
) error {
	plan, err := survey.Plan(found, survey.Options{})
	if err != nil {
		return err
	}
	measured, err := verify.Measure(
		ctx, folder, plan, measure.Attribution{Maker: measure.Client, Where: "client on " + hostname(), At: time.Now()},
		digest.MeasureGain(time.Now),
	)
	if err != nil {
		return err
	}
	session := verify.New(judge.Basis{Keyring: keyring.New(nil, nil), Policy: judge.DefaultPolicy(), Now: time.Now()})
	for i := range plan.Items {
		m := measured[plan.Items[i].Path]
		session.Evidence(&plan.Items[i], &m)
	}
	worst := error(nil)
	lines := map[string]unrecordedLine{}
	for i := range plan.Items {
		item := &plan.Items[i]
		if item.Role != survey.Artifact || !wanted(item.Path) {
			continue
		}
		m := measured[item.Path]
		out := session.Judge(item, &m)
		lines[item.Path] = unrecordedLine{item.Path, out.Verdict, judge.Line(item, &out), m.Digests, out.Grounds}
		switch {
		case out.Verdict == judge.Refused:
			worst = &exit{code: exitRefused}
		case expectMatch && judge.MatchesAll(out.Grounds):
		case worst == nil:
			worst = &exit{code: exitUnproven}
		}
	}
	g := &grid{header: []string{"verdict", "file", "why", "record"}}
	var all []unrecordedLine
	for _, name := range slices.Sorted(maps.Keys(lines)) {
		l := lines[name]
		all = append(all, l)
		g.add(string(l.Verdict), l.File, l.Why, "none")
	}
	if len(all) == 0 {
		worst = &exit{code: exitUnproven} // a list alone proves nothing
	}
	if err := a.print(all, g, func() {
		if len(all) == 0 {
			a.wrapped(
				"",
				"Nothing here is a file to verify: what was given are lists, signatures or keys. Give the files that they are about.",
			)
		}
		for _, l := range all {
			fmt.Fprintf(
				a.stdout, "%s  %s  %s\n", a.paint(string(l.Verdict)), a.bold(plain.Text(l.File)),
				a.faint("on no record"),
			)
			for _, ground := range l.grounds {
				if slices.Contains(compares, ground.Code) {
					a.showGround(ground)
				}
			}
		}
		a.note("No service was asked: no key counts here, so nothing can be cleared, and nothing is on record.")
	}); err != nil {
		return err
	}
	return worst
}

// unrecordedLine is what can be said of a file without a service.
type unrecordedLine struct {
	File    string                            `json:"file"`
	Verdict judge.Verdict                     `json:"verdict"`
	Why     string                            `json:"why"`
	Digests map[digest.Algorithm]digest.Value `json:"digests"`
	grounds []judge.Ground
}
