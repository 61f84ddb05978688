package cli

import (
	"context"
	"errors"
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
	cmd.AddCommand(a.referenceFind(), a.referenceList(), a.referenceAdd())
	return cmd
}

func (a *app) referenceFind() *cobra.Command {
	return &cobra.Command{
		Use:     "find DIGEST|FILE…",
		Short:   "Tell which file that was cleared here has these bytes",
		Args:    cobra.MinimumNArgs(1),
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
			if err := a.showNotedWith(cmd.Context(), values); err != nil {
				return err
			}
			if len(found) == 0 {
				return &exit{code: exitUnproven}
			}
			return nil
		},
	}
}

func (a *app) referenceList() *cobra.Command {
	var publisher, match string
	var noted bool
	var limit int
	cmd := &cobra.Command{
		Use:   "list",
		Short: "List the files that were cleared here, the newest first",
		Args:  cobra.NoArgs,
		Long: `list shows what was cleared, and what became of it: a file of which something else was decided since says so.
The release is what the name tells, which is a guess. With --noted it shows digests that somebody has read
somewhere instead, which clear nothing.`,
		Example: "  endeixis reference list --publisher tidewright\n  endeixis reference list --name gauge-fw\n  endeixis reference list --noted",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if noted {
				found, err := c.NotedReferences(cmd.Context(), "", publisher, match, oneMore(limit))
				if err != nil {
					return err
				}
				return upTo(a, found, limit, a.showNoted)
			}
			found, err := c.Library(cmd.Context(), publisher, match, oneMore(limit))
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"file", "release", "signed by", "size", "cleared", "batch", "record", "now"},
				empty:  "No file fits.",
			}
			return upTo(a, found, limit, func(found []wire.Reference) error {
				for _, r := range found {
					now := string(judge.Cleared)
					if r.Now != nil {
						now = string(*r.Now)
					}
					g.add(
						r.Name, r.Release, r.SignedBy, size(r.Size), moment(r.Cleared), fmt.Sprint(r.Batch),
						fmt.Sprint(r.Record), now,
					)
				}
				return a.print(found, g, nil)
			})
		},
	}
	cmd.Flags().StringVar(&publisher, "publisher", "", "only files that rest on this publisher's signature")
	cmd.Flags().StringVar(&match, "name", "", "only files with this in their name")
	cmd.Flags().BoolVar(&noted, "noted", false, "what was noted, and not what was cleared")
	cmd.Flags().IntVar(&limit, "limit", 20, "at most this many; 0 for all")
	return cmd
}

// parseDigest reads one digest as it was typed or pasted.
func parseDigest(text string) (manifest.Entry, error) {
	e, err := manifest.ParseValue(text)
	var wrong *manifest.ValueError
	if errors.As(err, &wrong) {
		return e, usage("%s is not read as one digest: %s; %s", plain.Quoted(clipped(text)), wrong.Reason, wrong.Advice)
	}
	return e, err
}

// maxEchoed bounds what is repeated of a text in a message.
const maxEchoed = 80

func clipped(text string) string {
	if r := []rune(text); len(r) > maxEchoed {
		return string(r[:maxEchoed]) + "…"
	}
	return text
}

// references asks for the files that were cleared with one of the values.
func (a *app) references(ctx context.Context, values []digest.Value) ([]wire.Reference, error) {
	c, err := a.client()
	if err != nil {
		return nil, err
	}
	return c.References(ctx, joined(values))
}

// joined writes digests as they are asked for.
func joined(values []digest.Value) string {
	var list []string
	for _, v := range values {
		list = append(list, v.String())
	}
	return strings.Join(list, ",")
}

func (a *app) showReferences(found []wire.Reference) error {
	g := &grid{header: []string{"file", "publisher", "cleared", "where", "batch", "record", "by", "now"}}
	for _, r := range found {
		g.add(
			r.Name, strings.Join(r.Publishers, " or "), moment(r.Cleared), r.Source, fmt.Sprint(r.Batch),
			fmt.Sprint(r.Record), r.Algorithm, deref(r.Now),
		)
	}
	return a.print(found, g, func() {
		if len(found) == 0 {
			fmt.Fprintln(a.stdout, "No file that was cleared here has these bytes.")
		}
		weak := false
		for _, r := range found {
			of := ""
			if len(r.Publishers) > 0 {
				of = " of " + strings.Join(r.Publishers, " or ")
			}
			fmt.Fprintf(a.stdout, "%s  %s\n", a.bold(r.Name), a.faint(size(r.Size)+of))
			a.wrapped(
				"    ",
				fmt.Sprintf(
					"cleared on %s in %s, batch %d, record %d; known by its %s digest", moment(r.Cleared), r.Source,
					r.Batch, r.Record, r.Algorithm,
				),
			)
			by, err := digest.Parse(r.Algorithm)
			weak = weak || err == nil && by.CollisionBits() < judge.DefaultPolicy().DigestBits
			if now := deref(r.Now); now != "" && now != string(judge.Cleared) {
				a.wrapped("    ", "Judged again since, it is "+now+" now.")
			}
		}
		if weak {
			a.wrapped(
				"", "Two files can be made with one digest of this kind, so that it may be another file. Ask with SHA-256.",
			)
		}
	})
}
