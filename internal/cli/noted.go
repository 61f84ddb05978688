package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/keyring"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

// notedAtOnce is how many digests are put on record in one request.
const notedAtOnce = 1000

func (a *app) referenceAdd() *cobra.Command {
	var list, name string
	var n wire.NewNote
	cmd := &cobra.Command{
		Use:   "add (DIGEST --name NAME | --list FILE) --publisher SLUG --channel CHANNEL --at PLACE",
		Short: "Note digests of a publisher's files that were read somewhere; they clear nothing",
		Args:  cobra.MaximumNArgs(1),
		Long: `add puts on record which digest you read for which file, and where: in an old list, a letter, over the phone. Of a
list every digest has to be understood and to have a name; nothing is left out. What was noted is told by “reference
find”, and clears nothing: for that, the file has to be verified.`,
		Example: "  endeixis reference add 3b323b5c… --name gauge-3.0.img --publisher tidewright --channel letter --at 'letter of 12 March'\n" +
			"  endeixis reference add --list SHA256SUMS-2019 --publisher tidewright --channel mirror --at mirror.tidewright.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			var err error
			if n.Files, err = a.filesToNote(list, name, args); err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			all := n.Files
			var first int64 = -1
			for from := 0; from < len(all); from += notedAtOnce {
				n.Files = all[from:min(from+notedAtOnce, len(all))]
				noted, err := c.NoteReferences(cmd.Context(), n)
				if err != nil {
					if from > 0 {
						a.note("The first %d of %d were noted.", from, len(all))
					}
					return err
				}
				if first < 0 {
					first = noted.Record
				}
			}
			if len(all) == 1 {
				a.note("It is noted, as record %d. It clears nothing.", first)
			} else {
				a.note("%d digests are noted, from record %d on. They clear nothing.", len(all), first)
			}
			return nil
		},
	}
	cmd.Flags().StringVar(&list, "list", "", "a list of digests, of any format")
	cmd.Flags().StringVar(&name, "name", "", "the file that the digest is of")
	cmd.Flags().StringVar(&n.Publisher, "publisher", "", "whose files they are")
	wordFlag(cmd, &n.Channel, "channel", keyring.Channels(), "the kind of place")
	cmd.Flags().StringVar(&n.Place, "at", "", "where exactly")
	cmd.Flags().StringVar(&n.Note, "note", "", "anything to add")
	for _, flag := range []string{"publisher", "channel", "at"} {
		_ = cmd.MarkFlagRequired(flag)
	}
	return cmd
}

// filesToNote reads what was given: all of it, or an error.
func (a *app) filesToNote(list, name string, args []string) ([]wire.NotedFile, error) {
	switch {
	case list != "" && (name != "" || len(args) > 0), list == "" && len(args) == 0:
		return nil, usage("give one digest with --name, or a list with --list")
	case list == "" && name == "":
		return nil, usage("say with --name which file the digest is of")
	case list == "":
		e, err := parseDigest(args[0])
		if err != nil {
			return nil, err
		}
		e.Name = name
		return []wire.NotedFile{notedFile(e)}, nil
	}
	m, err := a.readList(list, nil)
	if err != nil {
		return nil, err
	}
	var out []wire.NotedFile
	for _, e := range m.Entries.All() {
		switch {
		case e.Guessed.Has(manifest.DigestPart) || e.Question != "":
			return nil, notWhole(list, e.Line, "what stands there is not clear, and would have to be guessed")
		case e.Name == "":
			return nil, notWhole(list, e.Line, "the digest has no name")
		case len(e.Digest) < digest.MD5.Size():
			return nil, notWhole(list, e.Line, "that is a checksum, which many files have")
		}
		out = append(out, notedFile(e))
	}
	for _, p := range m.Problems {
		return nil, notWhole(list, p.Line, p.Message)
	}
	for _, s := range m.LeftAside {
		return nil, notWhole(list, s.Line, s.Why)
	}
	if len(out) == 0 {
		return nil, usage("nothing in %s is understood as the digest of a file; “endeixis manifest show” tells why", plain.Quoted(list))
	}
	return out, nil
}

func notWhole(list string, line int, reason string) error {
	return usage(
		"nothing was noted: %s, line %d: %s. Take the line out or note it by itself; “endeixis manifest show” shows the whole",
		plain.Quoted(list), line, strings.TrimSuffix(plain.Text(reason), "."),
	)
}

func notedFile(e manifest.Entry) wire.NotedFile {
	out := wire.NotedFile{Name: e.Name, Digest: e.Digest.String()}
	if !e.Guessed.Has(manifest.SizePart) {
		out.Size = e.Size
	}
	if e.Algorithm != digest.Unknown {
		out.Algorithm = e.Algorithm.String()
	}
	return out
}

// showNotedWith shows people what was noted with some digests; programs ask for it by itself.
func (a *app) showNotedWith(ctx context.Context, values []digest.Value) error {
	if a.output != "table" {
		return nil
	}
	c, err := a.client()
	if err != nil {
		return err
	}
	found, err := c.NotedReferences(ctx, joined(values), "", "", maxNotedShown)
	if err != nil {
		return err
	}
	for _, r := range found {
		a.wrapped("", fmt.Sprintf("Noted, and not cleared: %s", notedSentence(r)))
	}
	return nil
}

// maxNotedShown bounds what is shown beside files that were cleared.
const maxNotedShown = 20

func notedSentence(r wire.NotedReference) string {
	out := fmt.Sprintf(
		"%s of %s, read on the channel %s (%s) and noted by %s on %s (record %d).", plain.Quoted(r.Name), r.Publisher,
		r.Channel, r.Place, r.By, moment(r.At), r.Record,
	)
	if r.Note != "" {
		out += " " + r.Note
	}
	return out
}

// showNoted lists what was noted.
func (a *app) showNoted(found []wire.NotedReference) error {
	g := &grid{
		header: []string{"file", "publisher", "digest", "channel", "where", "by", "at", "record"}, empty: "No file fits.",
	}
	for _, r := range found {
		g.add(
			r.Name, r.Publisher, strings.TrimSpace(r.Algorithm+" "+r.Digest), string(r.Channel), r.Place, r.By, moment(r.At),
			fmt.Sprint(r.Record),
		)
	}
	return a.print(found, g, nil)
}
