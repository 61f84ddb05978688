package survey

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"endeixis/core/manifest"
	"endeixis/core/openpgp"
	"endeixis/core/plain"
)

// readSigned reads a manifest out of a signed text. Lines are those of the file.
func readSigned(signed *openpgp.Cleartext, opts manifest.Options) (*manifest.Manifest, error) {
	if ext := path.Ext(opts.FileName); slices.Contains(signatureSuffixes, strings.ToLower(ext)) {
		opts.FileName = strings.TrimSuffix(opts.FileName, ext) // “SHA256SUMS.asc” is a SHA256SUMS
	}
	list, err := manifest.Parse(string(signed.Text), opts)
	list.Entries = list.Entries.Below(signed.FirstLine - 1)
	for i := range list.Problems {
		list.Problems[i].Line += signed.FirstLine - 1
	}
	if signed.Outside != "" {
		list.Problems = append(
			list.Problems,
			manifest.Problem{
				Line: 1, Code: manifest.OutsideText,
				Message: fmt.Sprintf("there is text %s that nobody signed; it was not used", signed.Outside),
			},
		)
	}
	return list, err
}

// framedIn is how far into a text the frame around it has to begin to be noticed.
const framedIn = 64 << 10

// ReadList reads a manifest by itself, to be shown. Of a text with OpenPGP signatures
// around it only what they cover is read, as in a batch, and a problem says that they
// were not verified. It returns what [manifest.Read] does.
func ReadList(r io.Reader, opts manifest.Options) (*manifest.Manifest, error) {
	in := bufio.NewReaderSize(r, framedIn)
	if head, _ := in.Peek(framedIn); !openpgp.IsCleartext(head) {
		return manifest.ReadLocated(in, opts)
	}
	most := opts.MaxBytes
	if most == 0 {
		most = Limits{}.withDefaults().ControlFile
	}
	content, err := io.ReadAll(io.LimitReader(in, most+1))
	if err != nil {
		return nil, err
	}
	if int64(len(content)) > most {
		none := &manifest.Manifest{Format: manifest.None, Problems: []manifest.Problem{}}
		return none, &manifest.LimitError{What: "bytes", Limit: most}
	}
	signed, err := openpgp.ReadCleartext(content)
	if err != nil {
		var form *openpgp.FormatError
		at := 1
		if errors.As(err, &form) {
			at += bytes.Count(content[:min(form.Offset, len(content))], []byte("\n"))
		}
		return &manifest.Manifest{Format: manifest.None, Problems: []manifest.Problem{
			{
				Line: at, Code: manifest.SignedText,
				Message: "the frame of the signed text is damaged, and nothing in it is used: " + err.Error(),
			},
		}}, nil
	}
	list, err := readSigned(signed, opts)
	defer func() { list.Locate(string(content)) }()
	list.Problems = append(list.Problems, manifest.Problem{
		Line: 1,
		Code: manifest.SignedText,
		Message: fmt.Sprintf(
			"the text has %s around it, and none of that is verified here; a batch verifies it",
			plain.Count(len(signed.Signatures), "OpenPGP signature"),
		),
	})
	return list, err
}
