package keyring_test

import (
	"errors"
	"fmt"

	"endeixis/core/keyring"
)

// A fingerprint is read in any case and spacing, and only in full: short forms
// can be forged.
func ExampleParseFingerprint() {
	fp, err := keyring.ParseFingerprint("C959 BDBA 1E3A CFCD  15DC EB7E 36D7 F0A1 CC6F F7FC")
	fmt.Println(fp, err)
	_, err = keyring.ParseFingerprint("36D7 F0A1 CC6F F7FC")
	var form *keyring.FingerprintFormError
	fmt.Println(errors.As(err, &form), form.Digits)
	// Output:
	// c959bdba1e3acfcd15dceb7e36d7f0a1cc6ff7fc <nil>
	// true 16
}

// A key becomes a candidate by arriving, is admitted by a decision, and after a
// withdrawal never admitted again in one step.
func ExampleState_May() {
	fmt.Println(
		keyring.Candidate.May(keyring.Admitted), keyring.Withdrawn.May(keyring.Admitted),
		keyring.Withdrawn.May(keyring.Candidate),
	)
	// Output: true false true
}
