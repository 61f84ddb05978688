package cli

import (
	"encoding/json"

	"github.com/spf13/cobra"

	"endeixis/internal/wire"
)

func (a *app) batchAttestation() *cobra.Command {
	var only, file string
	cmd := &cobra.Command{
		Use:     "attestation BATCH",
		Short:   "Hand out a signed summary that pipelines read",
		Args:    cobra.ExactArgs(1),
		Long:    "attestation hands out an in-toto Statement with a verification summary, in a signed DSSE\nenvelope: of all artifacts of a batch, or of one with --item. It says PASSED for what\ncounts as cleared now, and FAILED for anything else, and names the records that it comes\nfrom. The ledger's key has signed it; docs/formats.md says how that is checked.",
		Example: "  endeixis batch attestation 12 --item gauge-fw-4.2-main.img --file gauge.intoto.json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, b, err := a.batchAt(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			var envelope wire.Envelope
			if only == "" {
				envelope, err = c.AttestBatch(cmd.Context(), b.ID)
			} else {
				items, listErr := c.ItemsMatching(cmd.Context(), b.ID, "")
				if listErr != nil {
					return listErr
				}
				found, namedErr := itemsNamed(items, only, b.ID)
				if namedErr != nil {
					return namedErr
				}
				envelope, err = c.AttestItem(cmd.Context(), b.ID, found[0].N)
			}
			if err != nil {
				return err
			}
			text, err := json.MarshalIndent(envelope, "", "  ")
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
			a.note("Written to %s, signed by the ledger's key.", file)
			return nil
		},
	}
	cmd.Flags().StringVar(&only, "item", "", "only this file")
	cmd.Flags().StringVar(&file, "file", "", "write it to this new file instead of standard output")
	return cmd
}
