package cli

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

func (a *app) referenceCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "reference", Short: "Know files again that were cleared here"}
	cmd.AddCommand(a.referenceFind())
	return cmd
}

func (a *app) referenceFind() *cobra.Command {
	return &cobra.Command{
		Use: "find DIGEST|FILE…", Short: "Tell which file that was cleared here has these bytes", Args: cobra.MinimumNArgs(1),
		Long:    "find takes digests of any algorithm, spaced in any way, or files, which are read here.",
		Example: "  endeixis reference find 3b323b5c4d281b8ec7164be5decf8566243b409edf054070361981324fc58abe\n  endeixis reference find unknown.img",
		RunE: func(cmd *cobra.Command, args []string) error {
			var values []digest.Value
			for _, arg := range args {
				if info, err := os.Stat(arg); err == nil && info.Mode().IsRegular() {
					c, err := a.compute(cmd.Context(), arg, digest.Only(digest.SHA256))
					if err != nil {
						return err
					}
					values = append(values, c.Digests[digest.SHA256])
					continue
				}
				given, err := parseDigest(arg)
				if err != nil {
					return err
				}
				values = append(values, given.Digest)
			}
			found, err := a.references(cmd.Context(), values)
			if err != nil {
				return err
			}
			if err := a.showReferences(found); err != nil {
				return err
			}
			if len(found) == 0 {
				return &exit{code: exitUnproven}
			}
			return nil
		},
	}
}

// parseDigest reads one digest as a person writes it: in groups, in capitals, with its
// algorithm, as base64.
func parseDigest(text string) (manifest.Entry, error) {
	m, err := manifest.Parse(strings.TrimSpace(text), manifest.Options{})
	if err != nil {
		return manifest.Entry{}, err
	}
	if label, value, ok := strings.Cut(strings.TrimSpace(text), "-"); m.Entries.Len() == 0 && ok {
		// As pages state what they load: “sha512-” and base64.
		if tagged, err := manifest.Parse(fmt.Sprintf("%s (it) = %s\n", label, value), manifest.Options{}); err == nil && tagged.Entries.Len() == 1 {
			return tagged.Entries.At(0), nil
		}
	}
	if m.Entries.Len() != 1 {
		return manifest.Entry{}, usage("%s is not read as one digest; give the whole value of one algorithm, spaced as you like", plain.Quoted(text))
	}
	return m.Entries.At(0), nil
}

// references asks for the files that were cleared with one of the values.
func (a *app) references(ctx context.Context, values []digest.Value) ([]wire.Reference, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	var list []string
	for _, v := range values {
		list = append(list, v.String())
	}
	return c.References(ctx, strings.Join(list, ","))
}

func (a *app) showReferences(found []wire.Reference) error {
	g := &grid{header: []string{"file", "publisher", "cleared", "where", "batch", "record", "by", "now"}}
	for _, r := range found {
		g.add(r.Name, strings.Join(r.Publishers, " or "), moment(r.Cleared), r.Source, fmt.Sprint(r.Batch), fmt.Sprint(r.Record), r.Algorithm, deref(r.Now))
	}
	return a.print(found, g, func() {
		if len(found) == 0 {
			fmt.Fprintln(a.stdout, "No file that was cleared here has these bytes.")
		}
		for _, r := range found {
			of := ""
			if len(r.Publishers) > 0 {
				of = " of " + strings.Join(r.Publishers, " or ")
			}
			fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(r.Name), a.faint(size(r.Size)+of))
			a.wrapped("    ", fmt.Sprintf("cleared on %s in %s, batch %d, record %d; known by its %s digest", moment(r.Cleared), r.Source, r.Batch, r.Record, r.Algorithm))
			if now := deref(r.Now); now != "" && now != string(judge.Cleared) {
				a.wrapped("    ", "Judged again since, it is "+now+" now.")
			}
		}
	})
}
