package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/manifest"
	"endeixis/core/plain"
	"endeixis/core/satchel"
	"endeixis/core/survey"
	"endeixis/internal/client"
	"endeixis/internal/measurer"
	"endeixis/internal/sources"
	"endeixis/internal/wire"
)

// proofs is the folder with what goes along with files that are handed on.
const proofs = survey.ProofsFolder

func (a *app) batchHandOn() *cobra.Command {
	var to, from, publisher string
	var companions bool
	var site siteFlags
	cmd := &cobra.Command{
		Use:   "hand-on BATCH|DEPOT:FOLDER",
		Short: "Copy what is cleared, and only that, to where it will be used",
		Args:  cobra.ExactArgs(1),
		Long: `hand-on copies the files of a batch that are cleared, and still are. Each is hashed while
it is copied, and again as it lies on the disk then, so that nothing changes between the
check and the use. What they rest on goes along under its own names: the publisher's lists,
signatures and keys, so that whoever gets the files can check them again. Beside them, in
` + proofs + `, it writes a list of them and the receipts. Nothing is written over, and what is
there already with exactly its bytes stays; what was not handed on is listed with its reason.
Companions, which need no clearing, are copied only with --companions, and no list or receipt
speaks of them.

DEPOT:FOLDER stands for the newest batch of a depot's folder. Its files are fetched from the
service; --from says where the batch's folder is on this machine, if it is. Interrupted, the
same command goes on where it stopped.

Where there is no network, --satchel verifies a folder, seals the outcome, and then does the
same with what is cleared by it.`,
		Example: "  endeixis batch hand-on 12 --to /mnt/stick\n  endeixis batch hand-on quayside:tidewright/gauge-fw-4.2 --to /mnt/stick\n  endeixis batch hand-on 3 --from /srv/downloads/tidewright/gauge-fw-4.2 --to /mnt/stick\n" +
			"  endeixis batch hand-on /mnt/stick --satchel skerrow.satchel --to /srv/light",
		RunE: func(cmd *cobra.Command, args []string) error {
			if to == "" {
				return usage("say with --to where the files are to be")
			}
			if site.given() {
				if from != "" {
					return usage("with --satchel the folder is given by itself, and not with --from")
				}
				return a.handOnOnSite(cmd.Context(), site, publisher, args[0], to, companions)
			}
			if publisher != "" {
				return usage("--publisher goes with --satchel: a batch was verified already")
			}
			c, b, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if !b.Closed() {
				return &exit{
					exitFailed,
					fmt.Errorf("batch %d has not ended; “endeixis batch follow %d” waits for it", b.ID, b.ID),
				}
			}
			if from, err = filesOf(b, from); err != nil {
				return err
			}
			return a.handOnBatch(cmd.Context(), a.patient(c), b, from, to, companions)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "the folder that they are copied to; it is made if it is not there")
	cmd.Flags().StringVar(&from, "from", "", "where the batch's folder is on this machine")
	cmd.Flags().BoolVar(&companions, "companions", false, "copy companions too, which are measured and not cleared")
	cmd.Flags().StringVar(&publisher, "publisher", "", "with --satchel: the publisher that the files are expected from")
	site.add(cmd)
	return cmd
}

// filesOf returns where the files of a batch are on this machine, or nothing where the service
// hands them out.
func filesOf(b wire.Batch, given string) (string, error) {
	host, path, _ := strings.Cut(b.Source.Reference, ":")
	switch {
	case given != "":
		return given, nil
	case b.Source.Kind == sources.Depot:
		return "", nil
	case b.Source.Kind != sources.Client || host != hostname():
		return "", usage(
			"the files of batch %d are on %s; say with --from where they are on this machine", b.ID, plain.Text(host),
		)
	}
	return path, nil
}

// handedOn is what came of handing on.
type handedOn struct {
	Batch int64 `json:"batch,omitempty"`
	// Outcome is the number of one that was judged by a satchel.
	Outcome int               `json:"outcome,omitempty"`
	To      string            `json:"to"`
	Handed  []measurer.Handed `json:"handed"`
	// Along went along with them: what they rest on.
	Along []measurer.Handed `json:"along"`
	// Companions went along because that was asked for; nothing vouches for them.
	Companions []measurer.Handed `json:"companions,omitempty"`
	Left       []measurer.Handed `json:"left"`
}

// A handing is files that were verified and are handed on.
type handing struct {
	// called names what they were verified in, for people, and stem their list.
	called, stem string
	items        []wire.Item
	from         measurer.Opener
	// receipt returns the receipt of a record; it is nil where there is nobody to ask.
	receipt func(ctx context.Context, record int64) (ledger.Receipt, error)
	// companions are copied too.
	companions bool
}

// handOnBatch hands on files of a batch.
func (a *app) handOnBatch(
	ctx context.Context, c *client.Client, b wire.Batch, from, to string, companions bool,
) error {
	items, err := c.Items(ctx, b.ID)
	if err != nil {
		return err
	}
	source, done, err := openerOf(c, b.ID, items, from)
	if err != nil {
		return err
	}
	defer done()
	out, err := a.handOn(
		ctx,
		handing{
			called: fmt.Sprintf("batch %d", b.ID), stem: fmt.Sprintf("batch-%d", b.ID), items: items, from: source,
			receipt: c.Receipt, companions: companions,
		},
		to,
	)
	if err != nil {
		return err
	}
	out.Batch = b.ID
	return a.showHandedOn(fmt.Sprintf("batch %d", b.ID), b, out)
}

// handOnOnSite verifies a folder by a satchel, and hands on what is cleared.
func (a *app) handOnOnSite(
	ctx context.Context, f siteFlags, publisher, arg, to string, companions bool,
) error {
	s, err := a.openSite(f)
	if err != nil {
		return err
	}
	defer s.close()
	h, err := a.lookAt(ctx, arg)
	if err != nil {
		return err
	}
	defer h.folder.Close()
	e := a.entry(s, satchel.Folder, h.path, "hand-on", publisher)
	settled, err := a.judge(ctx, s, &e, h.folder.FS(), h.found)
	if err != nil {
		return err
	}
	if err := s.keep(&e); err != nil {
		return err
	}
	items := make([]wire.Item, len(settled))
	for i := range settled {
		items[i] = shownItem(&settled[i])
	}
	called := fmt.Sprintf("outcome %d of satchel %s", e.N, s.satchel.ID)
	out, err := a.handOn(
		ctx,
		handing{
			called: called, stem: fmt.Sprintf("outcome-%d", e.N), items: items,
			from: measurer.InFolder{FS: h.folder.FS()}, companions: companions,
		},
		to,
	)
	if err != nil {
		return err
	}
	out.Outcome = e.N
	return a.showHandedOn(called, wire.Batch{Verdict: &e.Verdict}, out)
}

// handOn copies what is cleared, with what it rests on, and says what became of each file.
func (a *app) handOn(ctx context.Context, h handing, to string) (handedOn, error) {
	out := handedOn{To: to, Handed: []measurer.Handed{}, Along: []measurer.Handed{}, Left: []measurer.Handed{}}
	if err := os.MkdirAll(to, 0o755); err != nil {
		return out, err
	}
	root, err := os.OpenRoot(to)
	if err != nil {
		return out, err
	}
	defer root.Close()

	var files []measurer.Handed
	total := int64(0)
	cleared := map[string]bool{}
	for _, item := range h.items {
		f := handed(item, h.companions)
		cleared[item.Path] = !f.Uncleared && !f.Companion
		// What is inside a file that is cleared goes along with it.
		if item.Role != "artifact" || cleared[item.Inside] {
			continue
		}
		if f.Why == "" && item.Inside != "" {
			f.Why, f.Uncleared = fmt.Sprintf("it lies inside %s, which is not cleared", item.Inside), true
		}
		files = append(files, f)
		if f.Why == "" {
			total += 2 * item.Size
		}
	}
	along := evidenceOf(h.items, files)
	for _, f := range along {
		total += 2 * f.Size
	}
	files = append(files, along...)
	bar := a.bar(total, "copying")
	err = measurer.HandOn(
		//nolint:errcheck // only for the eye
		ctx, h.from, root, files, func(n int64) { bar.Add64(n) },
	)
	bar.Clear() //nolint:errcheck // only for the eye
	if err != nil {
		return out, &exit{
			exitFailed,
			fmt.Errorf(
				"interrupted; what has its name in %s is whole, and the same command goes on where this one stopped",
				plain.Quoted(to),
			),
		}
	}
	for _, f := range files {
		switch {
		case f.Why != "":
			out.Left = append(out.Left, f)
		case f.Companion:
			out.Companions = append(out.Companions, f)
		case f.Role != "":
			out.Along = append(out.Along, f)
		default:
			out.Handed = append(out.Handed, f)
		}
	}
	if len(out.Handed) > 0 {
		err = prove(ctx, h, root, out)
	}
	return out, err
}

// recordsOf returns the records of the files that were handed on, and of the lists that went
// along, by path.
func recordsOf(items []wire.Item, out handedOn) map[string]int64 {
	went := map[string]bool{}
	for _, f := range slices.Concat(out.Handed, out.Along) {
		went[f.Path] = f.Role == "" || f.Role == survey.Manifest
	}
	records := map[string]int64{}
	for _, item := range items {
		if went[item.Path] && item.Record != nil {
			records[item.Path] = *item.Record
		}
	}
	return records
}

// openerOf opens the files of a batch in a folder here or, without one, at the service.
func openerOf(
	c *client.Client, batch int64, items []wire.Item, from string,
) (o measurer.Opener, done func(), err error) {
	if from == "" {
		return &atService{c, batch, items}, func() {}, nil
	}
	_, folder, err := openFolder(from)
	if err != nil {
		return nil, nil, err
	}
	return measurer.InFolder{FS: folder.FS()}, func() { folder.Close() }, nil
}

// atService opens files that the service hands out.
type atService struct {
	c     *client.Client
	batch int64
	items []wire.Item
}

// OpenAt opens a file from an offset on.
func (s *atService) OpenAt(ctx context.Context, path string, offset int64) (io.ReadCloser, error) {
	i := slices.IndexFunc(s.items, func(i wire.Item) bool { return i.Path == path })
	if i < 0 {
		return nil, fs.ErrNotExist
	}
	return s.c.Content(ctx, s.batch, s.items[i].N, offset, s.items[i].Size), nil
}

// evidenceOf returns what the files that are handed on rest on: the lists and signatures
// that vouch for them, and the publishers' keys that lie beside them.
func evidenceOf(items []wire.Item, files []measurer.Handed) []measurer.Handed {
	going := map[string]bool{}
	for _, f := range files {
		going[f.Path] = f.Why == ""
	}
	named := map[string]bool{}
	receipted := false
	for _, item := range items {
		if !going[item.Path] && !going[item.Inside] {
			continue
		}
		for _, p := range item.Paths {
			receipted = receipted || p.Kind == judge.Receipted // and the receipts of lists
			for _, l := range p.Links {
				named[l.Ref] = true
			}
		}
		grounds := item.Grounds
		if item.Now != nil {
			grounds = append(slices.Clone(grounds), item.Now.Grounds...)
		}
		for _, g := range grounds {
			named[g.Source] = true
		}
	}
	if len(named) == 0 {
		return nil
	}
	var out []measurer.Handed
	for _, item := range items {
		if item.Role == survey.Artifact || item.Inside != "" ||
			item.Role != survey.Key && !named[item.Path] && (item.Role != survey.Receipt || !receipted) {
			continue
		}
		f := measuredOf(item)
		f.Role = item.Role
		out = append(out, f)
	}
	return out
}

// measuredOf is a file with what was measured of it.
func measuredOf(item wire.Item) measurer.Handed {
	out := measurer.Handed{Path: item.Path, Size: item.Size, Digests: map[digest.Algorithm]digest.Value{}}
	for label, text := range item.Digests {
		var value digest.Value
		if a, err := digest.Parse(label); err == nil && value.UnmarshalText([]byte(text)) == nil {
			out.Digests[a] = value
		}
	}
	return out
}

// handed is what is to be copied of an item, or why it is not.
func handed(item wire.Item, companions bool) measurer.Handed {
	out := measuredOf(item)
	out.Companion = deref(item.Present().Verdict) == string(judge.Companion)
	switch {
	case out.Companion && companions:
	case out.Companion:
		out.Why, out.Uncleared = "it is a companion, which is copied with --companions", true
	case item.Now != nil && item.Now.Verdict != judge.Cleared:
		out.Why, out.Uncleared = fmt.Sprintf("it is %s now: %s", item.Now.Verdict, item.Now.Deciding), true
	case item.Now == nil && deref(item.Verdict) != string(judge.Cleared):
		out.Why, out.Uncleared = fmt.Sprintf("it is %s: %s", deref(item.Verdict), item.Deciding), true
	}
	return out
}

// prove writes what goes along with the files: a list of them, and the receipts of the records
// of them and of the lists that they stand in.
func prove(ctx context.Context, h handing, root *os.Root, out handedOn) error {
	var listed []manifest.File
	for _, f := range out.Handed {
		listed = append(listed, manifest.File{Name: f.Path, Size: f.Size, Digests: f.Digests})
	}
	records := map[string]int64{}
	if h.receipt != nil {
		records = recordsOf(h.items, out)
	}
	for _, path := range slices.Sorted(maps.Keys(records)) {
		receipt, err := h.receipt(ctx, records[path])
		if err != nil {
			return err
		}
		text, err := json.MarshalIndent(receipt, "", "  ")
		if err != nil {
			return err
		}
		name := fmt.Sprintf("%s/record-%d.receipt.json", proofs, records[path])
		if there, err := root.ReadFile(name); err == nil && receiptOf(there, receipt.Record) {
			continue // from before, when the ledger was shorter
		}
		if err := measurer.Write(root, name, append(text, '\n')); err != nil {
			return err
		}
	}
	text := bytes.NewBufferString(survey.HandedOnLine(h.called))
	if err := manifest.Write(text, manifest.Tagged, listed); err != nil {
		return err
	}
	return writeList(root, fmt.Sprintf("%s/%s.digests", proofs, h.stem), text.Bytes())
}

// receiptOf reports whether a text is a receipt of a record.
func receiptOf(text []byte, record string) bool {
	r, err := ledger.ParseReceipt(text)
	return err == nil && r.Record == record
}

// maxLists bounds the lists of one batch in a folder.
const maxLists = 1000

// writeList writes a list under a name that is free: files may be handed on in several goes.
func writeList(root *os.Root, stem string, text []byte) error {
	name := stem + ".txt"
	for n := 2; n <= maxLists; n++ {
		err := measurer.Write(root, name, text)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		name = fmt.Sprintf("%s-%d.txt", stem, n)
	}
	return fmt.Errorf("there are %d lists in %s already", maxLists, proofs)
}

func (a *app) showHandedOn(called string, b wire.Batch, out handedOn) error {
	g := &grid{header: []string{"file", "size", "why it was not handed on"}}
	for _, f := range slices.Concat(out.Handed, out.Along, out.Companions, out.Left) {
		g.add(f.Path, fmt.Sprint(f.Size), f.Why)
	}
	if err := a.print(out, g, func() {
		fmt.Fprintf(
			a.stdout, "%s of %s handed on to %s\n", capital(plain.Count(len(out.Handed), "file")), called, plain.Text(out.To),
		)
		for _, f := range out.Handed {
			about := size(f.Size)
			if f.There {
				about += ", was there already"
			}
			fmt.Fprintf(a.stdout, "  %s  %s\n", a.bold(plain.Text(f.Path)), a.faint(about))
		}
		if len(out.Along) > 0 {
			fmt.Fprintln(a.stdout, "with them, what they rest on")
		}
		for _, f := range out.Along {
			fmt.Fprintf(a.stdout, "  %s  %s\n", a.bold(plain.Text(f.Path)), a.faint(string(f.Role)))
		}
		if len(out.Companions) > 0 {
			fmt.Fprintln(a.stdout, "and companions, for which nothing vouches")
		}
		for _, f := range out.Companions {
			fmt.Fprintf(a.stdout, "  %s  %s\n", a.bold(plain.Text(f.Path)), a.faint(size(f.Size)))
		}
		if len(out.Handed) > 0 {
			fmt.Fprintf(
				a.stdout, "%s\n",
				a.faint("Read again from the disk, each is what was verified. What proves it is in "+proofs+"."),
			)
		}
		if len(out.Left) > 0 {
			fmt.Fprintf(a.stdout, "\n%s not handed on\n", capital(plain.Count(len(out.Left), "file")))
		}
		for _, f := range out.Left {
			fmt.Fprintf(a.stdout, "  %s\n", a.bold(plain.Text(f.Path)))
			a.wrapped("      ", f.Why)
		}
	}); err != nil {
		return err
	}
	for _, f := range out.Left {
		if !f.Uncleared { // one that is cleared could not be copied
			return &exit{code: exitFailed}
		}
	}
	return verdictExit(b)
}
