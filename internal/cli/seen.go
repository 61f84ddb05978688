package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"golang.org/x/mod/sumdb/note"

	"endeixis/core/ledger"
	"endeixis/core/plain"
	"endeixis/internal/client"
	"endeixis/internal/fault"
	"endeixis/internal/wholefile"
	"endeixis/internal/wire"
)

// remembersLedger reports whether a profile knows the ledger of a service, by its key.
func (a *app) remembersLedger(server string) bool {
	return a.profile.PublicKey != "" && a.profile.Server == server && a.profilePath != ""
}

// seen is the file with the newest checkpoint that this profile has seen.
func (a *app) seen() string { return a.profilePath + ".checkpoint" }

// seenBefore returns the newest checkpoint that this profile has seen, and its text, or nothing.
func (a *app) seenBefore(verifier note.Verifier) (ledger.Checkpoint, string) {
	text, err := os.ReadFile(a.seen())
	if err != nil {
		return ledger.Checkpoint{}, ""
	}
	c, err := ledger.OpenCheckpoint(string(text), note.VerifierList(verifier))
	if err != nil {
		a.note(
			"What this profile remembered of the ledger, in %s, is of another ledger or damaged; it begins anew.",
			plain.Text(a.seen()),
		)
		return ledger.Checkpoint{}, ""
	}
	return c, string(text)
}

// remembered returns the newest checkpoint of the ledger that this profile has seen, or nothing.
// It fails where the ledger has another key than the profile knows.
func (a *app) remembered(ctx context.Context, c *client.Client) (string, error) {
	if !a.remembersLedger(c.Server()) {
		return "", nil
	}
	verifier, err := a.rememberedKey(c.Server())
	if err != nil {
		return "", err
	}
	now, err := c.Checkpoint(ctx, 0)
	if signsNothing(err) {
		err = nil // the audit says why
	} else if err == nil {
		_, err = a.opened(c.Server(), now, verifier)
	}
	_, text := a.seenBefore(verifier)
	return text, err
}

// signsNothing reports whether a service says that it signs no checkpoint, for its ledger is not
// what it has written.
func signsNothing(err error) bool {
	problem := (*client.Error)(nil)
	return errors.As(err, &problem) && problem.Code == fault.LedgerAltered
}

// rememberedKey reads the key that a profile knows of a service. One that is none has signed
// nothing.
func (a *app) rememberedKey(server string) (note.Verifier, error) {
	verifier, err := note.NewVerifier(a.profile.PublicKey)
	if err != nil {
		return nil, a.anotherKey(server)
	}
	return verifier, nil
}

func (a *app) anotherKey(server string) error {
	return &exit{
		exitRefused,
		fmt.Errorf(
			"the ledger is signed with another key than the one remembered of %s since you signed in (%s), which has signed nothing of the kind; ask the administrator why before you rely on it. When the key was lost, sign in again",
			server,
			a.profile.PublicKey,
		),
	}
}

// opened reads a checkpoint of a service, by the key that is known of it, or one that has followed
// that, as it has signed: a service with another key has another ledger, whatever it says.
func (a *app) opened(server string, c wire.Checkpoint, verifier note.Verifier) (ledger.Checkpoint, error) {
	keys := ledger.Successors(verifier, c.Succession)
	out, err := ledger.OpenCheckpoint(c.Signed, note.VerifierList(keys...))
	if err != nil {
		return out, a.anotherKey(server)
	}
	if followedBy(keys, c.PublicKey) && a.remembersLedger(server) && c.PublicKey != a.profile.PublicKey {
		a.note(
			"The ledger of %s goes on with another key, as the one remembered has signed: %s. It is remembered from now on.",
			server,
			plain.Text(c.PublicKey),
		)
		a.profile.PublicKey = c.PublicKey
		if err := a.profile.save(a.profilePath); err != nil {
			a.note("It could not be remembered: %s.", err)
		}
	}
	return out, nil
}

// followedBy reports whether a public key is the last of those that a known one has been followed
// by.
func followedBy(keys []note.Verifier, public string) bool {
	last, err := note.NewVerifier(public)
	return err == nil && len(keys) > 1 && last.KeyHash() == keys[len(keys)-1].KeyHash()
}

// meet looks whether the ledger of a service goes on from what this profile has seen of it, by
// a consistency proof, and remembers the newest checkpoint.
func (a *app) meet(ctx context.Context, c *client.Client) error {
	if !a.remembersLedger(c.Server()) {
		return nil
	}
	verifier, err := a.rememberedKey(c.Server())
	if err != nil {
		return err
	}
	before, text := a.seenBefore(verifier)
	now, err := c.Checkpoint(ctx, before.Size)
	switch {
	case signsNothing(err):
		a.note("Take care: %s", plain.Text(err.Error()))
		return nil
	case client.Denied(err):
		return nil // the command itself says so
	case err != nil:
		return err
	}
	return a.grown(c.Server(), now, verifier, before, text)
}

// grown checks that a checkpoint goes on from one that was seen before, and remembers it.
func (a *app) grown(
	server string, now wire.Checkpoint, verifier note.Verifier, before ledger.Checkpoint, text string,
) error {
	newest, err := a.opened(server, now, verifier)
	if err != nil {
		return err
	}
	if err := ledger.CheckGrowth(before, newest, now.Consistency); err != nil {
		how := fmt.Sprintf("its first %d records are others now", before.Size)
		if newest.Size < before.Size {
			how = fmt.Sprintf("it had %d records, and has %d", before.Size, newest.Size)
		}
		return &exit{
			exitRefused,
			fmt.Errorf(
				"the ledger of %s does not go on from what was seen of it: %s. It was cut, restored from an older backup, or written anew. Ask the administrator, and rely on nothing of it before. When a backup was restored on purpose, “endeixis record audit --begin-anew” accepts it once",
				server,
				how,
			),
		}
	}
	if now.Signed == text {
		return nil
	}
	if err := a.remember(server, now.Signed); err != nil {
		a.note("What was seen of the ledger cannot be remembered: %s.", err)
	}
	return nil
}

// goesOn checks that the ledger of a service goes on from a checkpoint that was kept, if there
// is one, and returns the newest, which the profile remembers. key is the one that was given.
func (a *app) goesOn(ctx context.Context, c *client.Client, key, kept string) (wire.Checkpoint, error) {
	if key == "" && !a.remembersLedger(c.Server()) {
		return c.Checkpoint(ctx, 0)
	}
	verifier, err := a.serviceKey(
		key, "give the public key of the ledger with --public-key; “endeixis status” shows it", "ledger",
	)
	if err != nil {
		return wire.Checkpoint{}, err
	}
	var before ledger.Checkpoint
	if kept != "" {
		if before, err = ledger.OpenCheckpoint(kept, note.VerifierList(verifier)); err != nil {
			return wire.Checkpoint{}, usage(
				"the checkpoint that was kept was not signed by the key %s of this ledger; where another key has followed since, give that of then with --public-key",
				verifier.Name(),
			)
		}
	}
	now, err := c.Checkpoint(ctx, before.Size)
	if err != nil {
		return now, err
	}
	return now, a.grown(c.Server(), now, verifier, before, "")
}

// remember keeps a checkpoint of a ledger that goes on from the one before.
func (a *app) remember(server, signed string) error {
	if !a.remembersLedger(server) {
		return nil
	}
	return wholefile.Write(a.seen(), signed)
}

// acceptKey asks whether a service may have another key than the one remembered of it, where that
// has not signed that it is followed.
func (a *app) acceptKey(ctx context.Context, c *client.Client, public string) error {
	if !a.remembersLedger(c.Server()) || a.profile.PublicKey == public {
		return nil
	}
	before, err := note.NewVerifier(a.profile.PublicKey)
	if err != nil {
		return nil // what was remembered is no key
	}
	now, err := c.Checkpoint(ctx, 0)
	if err != nil {
		return err
	}
	if followedBy(ledger.Successors(before, now.Succession), public) {
		return nil
	}
	a.note(
		"The ledger of %s has another key than the one remembered (%s), and that has signed nothing of it: %s. Ask the administrator, by another way than this service, whether the key was lost, and read the new one to each other.",
		c.Server(),
		plain.Text(a.profile.PublicKey),
		plain.Text(public),
	)
	said, err := a.ask("Type “accept” to go on with the new key: ")
	if err != nil {
		return err
	}
	if said != "accept" {
		return &exit{exitRefused, errors.New("nothing was changed; you are signed in as before")}
	}
	return a.forget()
}

// forget puts aside what was seen of a ledger.
func (a *app) forget() error {
	moved := a.seen() + ".before"
	err := os.Rename(a.seen(), moved)
	if errors.Is(err, fs.ErrNotExist) {
		a.note("Nothing was seen of the ledger by this profile yet.")
		return nil
	}
	if err == nil {
		a.note("What was seen of the ledger is in %s now. It begins anew.", plain.Text(moved))
	}
	return err
}
