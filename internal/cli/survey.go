package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/plain"
	"endeixis/internal/wire"
)

// planned surveys a folder of a depot or of this machine.
func (a *app) planned(ctx context.Context, at string, corrections []wire.Correction) (wire.Survey, error) {
	if !isDepot(at) {
		return a.surveyFolder(ctx, at, corrections)
	}
	depot, path, err := where(at)
	if err != nil {
		return wire.Survey{}, err
	}
	c, err := a.client()
	if err != nil {
		return wire.Survey{}, err
	}
	return c.Survey(ctx, depot, path, corrections)
}

func (a *app) batchSurvey() *cobra.Command {
	var set []string
	cmd := &cobra.Command{
		Use:     "survey WHERE",
		Short:   "Show what would be checked and why, without checking it",
		Args:    cobra.ExactArgs(1),
		Long:    "WHERE is depot:folder, or a folder of this machine, for which no service is asked.\nsurvey says what each file is, what vouches for it, and how that was found. Where a\nsignature was paired with the wrong file, --set corrects it; give the same --set to\n“batch run”, and the correction becomes part of the record.",
		Example: "  endeixis batch survey quayside:incoming/mixed --set release.sig=gauge-main.img",
		RunE: func(cmd *cobra.Command, args []string) error {
			corrections, err := parseCorrections(set)
			if err != nil {
				return err
			}
			plan, err := a.planned(cmd.Context(), args[0], corrections)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"role", "file", "vouched for by", "why"}, empty: "The folder holds no file."}
			for _, item := range plan.Items {
				for _, v := range append(append([]wire.Vouched{}, item.Listed...), item.Signatures...) {
					g.add(string(item.Role), item.Path, v.By, v.Why)
				}
				if len(item.Listed)+len(item.Signatures) == 0 {
					g.add(string(item.Role), item.Path, "", item.Why)
				}
			}
			return a.print(plan, g, func() { a.showSurvey(plan) })
		},
	}
	cmd.Flags().StringArrayVar(
		&set, "set", nil, "signature=file: say by hand which file a signature is over; repeat for more",
	)
	return cmd
}

// showSurvey draws the plan as a tree: each artifact with what vouches for it,
// and below a manifest the signatures that vouch for that.
func (a *app) showSurvey(plan wire.Survey) {
	byPath := map[string]wire.Planned{}
	used := map[string]bool{}
	for _, item := range plan.Items {
		byPath[item.Shown] = item
		for _, v := range append(append([]wire.Vouched{}, item.Listed...), item.Signatures...) {
			used[v.By] = true
		}
	}
	held := map[string][]wire.Planned{}
	for _, item := range plan.Items {
		if item.Role == "artifact" {
			held[item.Inside] = append(held[item.Inside], item)
		}
	}
	var branch func(indent string, item wire.Planned)
	branch = func(indent string, item wire.Planned) {
		name := item.Shown
		if item.Inside != "" {
			name = "inside: " + strings.TrimPrefix(name, item.Inside+"//")
		}
		about := "will be read for " + strings.Join(item.Algorithms, ", ")
		if item.Size > 0 || item.Inside == "" {
			about = size(item.Size) + ", " + about
		}
		if item.Holds != "" {
			about = item.Holds + ", " + about
		}
		fmt.Fprintf(a.stdout, "%s%s  %s\n", indent, a.bold(name), a.faint(about))
		if item.Problem != "" {
			a.wrapped(indent+"  ", item.Problem)
		}
		vouchers := append(append([]wire.Vouched{}, item.Listed...), item.Signatures...)
		if len(vouchers) == 0 {
			fmt.Fprintf(a.stdout, "%s  └─ nothing here vouches for it\n", indent)
		}
		for i, v := range vouchers {
			joint, bar := "├─", "│ "
			if i == len(vouchers)-1 {
				joint, bar = "└─", "  "
			}
			line := ""
			if v.Line > 0 {
				line = fmt.Sprintf(", line %d", v.Line)
			}
			fmt.Fprintf(a.stdout, "%s  %s %s%s  %s\n", indent, joint, plain.Text(v.By), line, a.faint(v.Why))
			for _, s := range byPath[v.By].Signatures {
				fmt.Fprintf(a.stdout, "%s  %s └─ %s  %s\n", indent, bar, plain.Text(s.By), a.faint(s.Why))
			}
		}
		for _, inner := range held[item.Shown] {
			branch(indent+"    ", inner)
		}
	}
	for _, item := range held[""] {
		branch("", item)
	}
	for _, item := range plan.Items {
		if item.Role != "artifact" && !used[item.Shown] {
			fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(item.Shown), a.faint("a "+string(item.Role)+": "+item.Why))
		}
	}
	for _, e := range plan.Absent {
		fmt.Fprintf(
			a.stdout, "%s  %s  %s\n", a.paint("absent"), plain.Text(e.Name),
			a.faint(fmt.Sprintf("listed in %s, line %d", e.Manifest, e.Line)),
		)
	}
}
