package wire

import (
	"fmt"

	"endeixis/core/plain"
	"endeixis/core/survey"
)

// SurveyOf tells what is planned for people.
func SurveyOf(plan *survey.Survey) Survey {
	out := Survey{Items: []Planned{}, Absent: []Absent{}}
	for _, item := range plan.Items {
		p := Planned{
			Path: item.Path, Shown: plain.Text(item.Path), Role: item.Role, Why: plain.Text(item.Why), Size: item.Size,
			Algorithms: []string{}, Listed: []Vouched{}, Signatures: []Vouched{},
		}
		p.Inside, p.Holds = InsideAndHolds(&item)
		if item.Problem != nil {
			p.Problem = item.Problem.Message
		}
		for _, d := range item.Digests {
			p.Algorithms = append(p.Algorithms, d.String())
		}
		for _, l := range item.Listed {
			why := "it names this file"
			if l.Name == "" {
				why = "it holds one digest, and this is the file it is about"
			}
			if l.Doubtful {
				why = "it names this file or another of the same name; the digest will decide"
			}
			v := Vouched{By: plain.Text(l.Manifest), Line: l.Line, Why: why}
			if n := len(p.Listed); n == 0 || p.Listed[n-1] != v { // a line can state several digests
				p.Listed = append(p.Listed, v)
			}
		}
		for _, o := range item.Signatures {
			p.Signatures = append(p.Signatures, Vouched{By: plain.Text(o.File), Why: o.Why})
		}
		out.Items = append(out.Items, p)
	}
	for _, e := range plan.Absent {
		out.Absent = append(
			out.Absent, Absent{Name: plain.Text(e.Name), Manifest: plain.Text(e.Manifest), Line: e.Line},
		)
	}
	return out
}

// InsideAndHolds tells what holds an item, and what it holds.
func InsideAndHolds(item *survey.Item) (inside, holds string) {
	if item.Inside != nil {
		inside = plain.Text(item.Inside.Of)
	}
	if h := item.Holds; h != nil {
		holds = h.String()
		if h.Trouble == "" && h.Members > 0 {
			holds += fmt.Sprintf(", %d spoken of", h.Spoken)
		}
	}
	return inside, holds
}
