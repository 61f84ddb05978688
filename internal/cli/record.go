package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"

	"filippo.io/torchwood"
	"github.com/spf13/cobra"
	"golang.org/x/mod/sumdb/note"

	"endeixis/core/diagnose"
	"endeixis/core/judge"
	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/wire"
)

func (a *app) recordCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "record", Short: "Look into the ledger, and prove what it holds"}
	cmd.AddCommand(a.recordList(), a.recordShow(), a.recordReceipt(), a.recordVerify(), a.recordAudit())
	return cmd
}

func (a *app) recordList() *cobra.Command {
	var q wire.ListRecordsRequest
	var limit int
	cmd := &cobra.Command{
		Use: "list", Short: "List records, the newest first", Args: cobra.NoArgs,
		Long: `list looks through everything that was ever recorded. All that is given has to fit. Days count as in UTC.

A key is found by its fingerprint or key ID, or by at least 8 digits of the beginning or end of one; a digest
by at least its first 8 digits, in any algorithm, among those that were computed of files.`,
		Example: `  endeixis record list --verdict refused
  endeixis record list --by ines --from 2026-10-01 --to 2026-10-31
  endeixis record list --digest 4f6a02d1
  endeixis record list --publisher corran --ground signer-contradicted
  endeixis record list --waiver 118`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			found, err := c.Records(cmd.Context(), q, oneMore(limit))
			if err != nil {
				return err
			}
			g := &grid{
				header: []string{"record", "kind", "verdict", "subject", "batch", "by", "at"}, empty: "No record fits.",
			}
			return firstOf(a, found, limit, func(records []wire.Record) error {
				for _, r := range records {
					batch := ""
					if r.Batch != nil {
						batch = strconv.FormatInt(*r.Batch, 10)
					}
					g.add(
						strconv.FormatInt(r.Position, 10), string(r.Kind), deref(r.Verdict), r.Subject, batch, r.By,
						moment(r.At),
					)
				}
				return a.print(records, g, nil)
			})
		},
	}
	wordFlag(cmd, &q.Kind, "kind", ledger.Kinds(), "only records of this kind")
	wordFlag(cmd, &q.Verdict, "verdict", judge.Verdicts(), "only with this verdict")
	cmd.Flags().StringVar(&q.Name, "name", "", "a part of the file name or other subject")
	cmd.Flags().Int64Var(&q.Batch, "batch", 0, "only those of this batch")
	cmd.Flags().StringVar(&q.By, "by", "", "only on this person's word")
	cmd.Flags().StringVar(&q.From, "from", "", "only since this day, as 2026-11-30, or time")
	cmd.Flags().StringVar(&q.To, "to", "", "only until this day, which is included, or time")
	cmd.Flags().StringVar(&q.Publisher, "publisher", "", "only about this publisher, or what is expected from or signed for it")
	cmd.Flags().StringVar(&q.Key, "key", "", "only about this key, or what it has signed")
	cmd.Flags().StringVar(&q.Digest, "digest", "", "only of files with this digest")
	wordFlag(cmd, &q.Ground, "ground", judge.Codes(), "only with this ground")
	wordFlag(cmd, &q.Cause, "cause", diagnose.Codes(), "only where this explains a difference")
	cmd.Flags().StringVar(&q.Waiver, "waiver", "", "only what rests on the waiver of this record, and its end")
	cmd.Flags().StringVar(&q.Device, "device", "", "only of this device")
	cmd.Flags().StringVar(&q.Place, "place", "", "a part of where the bytes were read: a folder, host or medium")
	cmd.Flags().StringVar(&q.Label, "label", "", "a part of a batch's label")
	cmd.Flags().IntVar(&limit, "limit", 30, "at most this many; 0 for all")
	return cmd
}

func (a *app) recordShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show RECORD",
		Short:   "Show a record as it was written",
		Args:    cobra.ExactArgs(1),
		Example: "  endeixis record show 41",
		RunE: func(cmd *cobra.Command, args []string) error {
			position, err := number(args[0], "a record's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Record(cmd.Context(), position)
			if err != nil {
				return err
			}
			g := &grid{header: []string{"record", "kind", "verdict", "subject", "by", "at"}}
			g.add(strconv.FormatInt(r.Position, 10), string(r.Kind), deref(r.Verdict), r.Subject, r.By, moment(r.At))
			return a.print(r, g, func() {
				a.draw(g)
				if len(r.Sentences) > 0 {
					fmt.Fprintln(a.stdout)
				}
				for _, sentence := range r.Sentences {
					a.wrapped("", sentence)
				}
				body, err := json.MarshalIndent(r.Body, "", "  ")
				if err != nil {
					return
				}
				fmt.Fprintln(a.stdout)
				for line := range strings.SplitSeq(string(body), "\n") {
					fmt.Fprintln(a.stdout, plain.Text(line))
				}
			})
		},
	}
}

func (a *app) recordReceipt() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use: "receipt RECORD", Short: "Hand out the proof that a record is in the ledger", Args: cobra.ExactArgs(1),
		Example: "  endeixis record receipt 41 --file gauge-fw-4.2.receipt.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			position, err := number(args[0], "a record's number")
			if err != nil {
				return err
			}
			c, err := a.client()
			if err != nil {
				return err
			}
			r, err := c.Receipt(cmd.Context(), position)
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(r, "", "  ")
			if err != nil {
				return err
			}
			text = append(text, '\n')
			if file == "" {
				_, err = a.stdout.Write(text)
				return err
			}
			if err := writeNew(file, text); err != nil {
				return err
			}
			a.note(
				"Written to %s. Anyone can check it with “endeixis record verify-receipt” and the service's public key.",
				file,
			)
			return nil
		},
	}
	cmd.Flags().StringVar(&file, "file", "", "write it to this new file instead of standard output")
	return cmd
}

// serviceKey reads a public key, or a file that holds one; without either it is the one that
// a sign-in has remembered, or else missing is said. of names whose key it is.
func (a *app) serviceKey(key, missing, of string) (note.Verifier, error) {
	if key == "" {
		key = a.profile.PublicKey
	}
	if key == "" {
		return nil, usage("%s", missing)
	}
	if text, err := os.ReadFile(key); err == nil {
		key = firstLine(string(text))
	}
	verifier, err := note.NewVerifier(key)
	if err != nil {
		return nil, usage("%q is neither a public key of a %s nor a file that holds one", key, of)
	}
	return verifier, nil
}

func (a *app) recordVerify() *cobra.Command {
	var key string
	var witnesses []string
	cmd := &cobra.Command{
		Use:     "verify-receipt FILE",
		Short:   "Check a receipt, without asking the service",
		Args:    cobra.ExactArgs(1),
		Long:    "verify-receipt needs the receipt and the public key of the service's ledger, and no\nnetwork. The key is the one given, or the one remembered from login. With --witness a\nwitness has to have countersigned it, too. It exits with 10 when the receipt does not hold.",
		Example: "  endeixis record verify-receipt gauge-fw-4.2.receipt.json --public-key 'verify.skerrow.example+1a2b3c4d+AQ…'",
		RunE: func(_ *cobra.Command, args []string) error {
			verifier, err := a.serviceKey(
				key, "give the public key of the ledger with --public-key; “endeixis status” shows it", "ledger",
			)
			if err != nil {
				return err
			}
			text, err := os.ReadFile(args[0])
			if err != nil {
				return err
			}
			receipt, err := ledger.ParseReceipt(text)
			if err != nil {
				return &exit{exitRefused, err}
			}
			checkpoint, err := receipt.Verify(verifier)
			if err != nil {
				return &exit{exitRefused, err}
			}
			for _, text := range witnesses {
				witness, err := torchwood.NewCosignatureVerifier(text)
				if err != nil {
					return usage("%q is not the public key of a witness", text)
				}
				if err := receipt.Witnessed(witness); err != nil {
					return &exit{exitRefused, err}
				}
			}
			var body map[string]any
			if err := json.Unmarshal([]byte(receipt.Record), &body); err != nil {
				return &exit{exitRefused, fmt.Errorf("the receipt holds, and its record is not JSON: %w", err)}
			}
			word := func(name string) string { s, _ := body[name].(string); return s }
			g := &grid{header: []string{"holds", "record", "kind", "verdict", "item", "at", "by", "ledger"}}
			g.add(
				"holds", strconv.FormatInt(receipt.Position, 10), word("kind"), word("verdict"), word("item"),
				word("at"), word("by"), checkpoint.Origin,
			)
			return a.print(struct {
				Holds      bool           `json:"holds"`
				Position   int64          `json:"position"`
				Ledger     string         `json:"ledger"`
				LedgerSize int64          `json:"ledger_size"`
				Record     map[string]any `json:"record"`
			}{true, receipt.Position, checkpoint.Origin, checkpoint.Size, body}, g, func() {
				fmt.Fprintf(
					a.stdout, "%s  The receipt holds: this is record %d of %s, which had %d records.\n",
					a.paint("holds"), receipt.Position, plain.Text(checkpoint.Origin), checkpoint.Size,
				)
				if len(witnesses) > 0 {
					fmt.Fprintf(
						a.stdout, "%s  What was asked for has been countersigned.\n",
						a.faint(fmt.Sprintf("%-8s", "witness")),
					)
				}
				for _, name := range []string{"kind", "verdict", "item", "folder", "depot", "by", "at"} {
					if v := word(name); v != "" {
						fmt.Fprintf(a.stdout, "%s  %s\n", a.faint(fmt.Sprintf("%-8s", name)), a.paint(plain.Text(v)))
					}
				}
			})
		},
	}
	cmd.Flags().StringVar(&key, "public-key", "", "the ledger's public key, or a file that holds it")
	cmd.Flags().StringArrayVar(
		&witnesses, "witness", nil,
		"the public key of a witness that has to have countersigned it (repeat it for more)",
	)
	return cmd
}

// believed checks that the answer of an audit was signed by the ledger's key, for this
// question: by the key that is given or remembered, or else by the one that the service names.
func (a *app) believed(ctx context.Context, c *client.Client, key string, report wire.Audit) error {
	if key == "" && a.profile.PublicKey == "" {
		status, err := c.Status(ctx)
		if err != nil {
			return err
		}
		key = status.PublicKey
		a.note(
			"The answer is checked with the key that the service itself names, %s. A sign-in remembers it; --public-key gives one.",
			plain.Text(key),
		)
	}
	verifier, err := a.serviceKey(
		key, "give the public key of the ledger with --public-key; “endeixis status” shows it", "ledger",
	)
	if err != nil {
		return err
	}
	said, err := ledger.SaidOf(report.Sentence, report.Position, report.Discrepancies)
	if err != nil {
		return err
	}
	// A client that knows an earlier key sees by its last signature that the new one follows it.
	now, err := c.Checkpoint(ctx, 0)
	if err != nil && !signsNothing(err) {
		return err
	}
	answer := ledger.Answer{
		Nonce: report.Nonce, From: report.From, Size: report.Records, Root: report.Root, Holds: report.Clean,
		Said: said,
	}
	if err := answer.Check(report.Signed, ledger.Successors(verifier, now.Succession)...); err != nil {
		return &exit{
			exitRefused,
			fmt.Errorf(
				"%w. Do not rely on it: somebody may have put it into the database. Have the administrator look, and keep the database as it is",
				err,
			),
		}
	}
	return nil
}

func (a *app) recordAudit() *cobra.Command {
	var asked audited
	cmd := &cobra.Command{
		Use:   "audit",
		Short: "Recompute the whole ledger",
		Args:  cobra.NoArgs,
		Long: `audit has the service recompute the hashes of the records and the ledger's root, check the
checkpoints it has signed, and hold its tables against the ledger. It begins at the first record
where there are not many; of a great ledger it goes on from where the last audit that held has
ended, and begins at the first with --full. Keep a checkpoint outside with --save, and give it later
with --against: then nobody can have changed anything before it, the service included. The answer is
signed by the ledger's key, for this question alone; that is checked with the key remembered from
login. What a profile has seen of a ledger it remembers, beside itself, and every command looks
whether the ledger goes on from there: one that was cut, restored from an older copy or written anew
is noticed without --against. When a restored one is meant, --begin-anew puts aside what was seen.
It exits with 10 when something differs.`,
		Example: "  endeixis record audit --save checkpoint-2026-11.txt\n  endeixis record audit --against checkpoint-2026-11.txt",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.audit(cmd.Context(), asked)
		},
	}
	cmd.Flags().StringVar(&asked.against, "against", "", "a checkpoint file that was kept outside")
	cmd.Flags().StringVar(
		&asked.key, "public-key", "",
		"the public key of the ledger, or a file with it (the one remembered from login, if left out)",
	)
	cmd.Flags().BoolVar(
		&asked.full, "full", false, "begin at the first record, and not where the last audit that held has ended",
	)
	cmd.Flags().BoolVar(
		&asked.anew, "begin-anew", false,
		"put aside what this profile has seen of the ledger, when you know why it is another now",
	)
	cmd.Flags().StringVar(&asked.save, "save", "", "write the present checkpoint to this file")
	return cmd
}

// audited is what was asked of an audit.
type audited struct {
	// against is a file with a checkpoint that was kept, save one to write the present one to, and
	// key the ledger's public key or a file with it; each may be empty.
	against, save, key string
	// full begins at the first record, and anew forgets what was seen of the ledger.
	full, anew bool
}

// audit has the ledger audited, shows what came of it, and keeps the checkpoint.
func (a *app) audit(ctx context.Context, asked audited) error {
	c, err := a.stranger() // what was seen is what this looks at
	if err != nil {
		return err
	}
	if asked.anew {
		if err := a.forget(); err != nil {
			return err
		}
	}
	var kept string
	if asked.against != "" {
		text, err := os.ReadFile(asked.against)
		if err != nil {
			return err
		}
		kept = string(text)
	} else if kept, err = a.remembered(ctx, c); err != nil {
		return err
	}
	show, done := a.inquiryProgress("auditing")
	report, err := c.Audit(ctx, wire.NewAudit{Checkpoint: kept, Full: asked.full}, show)
	done()
	if err != nil {
		return err
	}
	if err := a.believed(ctx, c, asked.key, report); err != nil {
		return err
	}
	if err := a.printAudit(report); err != nil {
		return err
	}
	if !report.Clean {
		return &exit{
			exitRefused,
			errors.New(
				"the ledger is not as it was written; keep the database as it is, and compare it with a backup",
			),
		}
	}
	// That it goes on from what was kept is seen here, and not believed.
	checkpoint, err := a.goesOn(ctx, c, asked.key, kept)
	if err != nil {
		return err
	}
	if asked.save == "" {
		return nil
	}
	a.note(
		"The checkpoint over %d records is in %s; keep it where the service cannot reach it.", checkpoint.Size,
		asked.save,
	)
	return os.WriteFile(asked.save, []byte(checkpoint.Signed), 0o644)
}

func (a *app) printAudit(report wire.Audit) error {
	g := &grid{header: []string{"clean", "records", "checkpoints", "root", "found"}}
	g.add(
		strconv.FormatBool(report.Clean), strconv.FormatInt(report.Records, 10),
		strconv.Itoa(report.Checkpoints), report.Root, report.Sentence,
	)
	return a.print(report, g, func() {
		word := "holds"
		if !report.Clean {
			word = "broken"
		}
		fmt.Fprintf(a.stdout, "%s  %s\n", a.paint(word), plain.Text(report.Sentence))
		for _, d := range report.Discrepancies {
			fmt.Fprintf(a.stdout, "  %s\n", plain.Text(d))
		}
		if report.Clean {
			fmt.Fprintln(a.stdout, a.faint("root "+report.Root))
		}
	})
}
