package recorded

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/plain"
	"endeixis/internal/state"
)

// Sentences says for people what a record says: what happened, by whom, on what evidence and by which policy.
// They are safe to show. What they leave out stands in the text of the record, which alone counts.
func Sentences(h Head, b Body) []string {
	out := said(b)
	for i := range out {
		out[i] = strings.TrimSpace(out[i])
	}
	out = slices.DeleteFunc(out, func(s string) bool { return s == "" })
	return append(out, fmt.Sprintf(
		"It was recorded for %s on %s, by %s.", plain.Text(h.By), second(h.At), plain.Text(h.Software),
	))
}

func said(b Body) []string {
	switch b := b.(type) {
	case ItemOutcome:
		return b.sentences()
	case ItemRejudged:
		return append(
			[]string{
				fmt.Sprintf(
					"%s of batch %d is %s since it was judged again; before that it was %s.", plain.Text(b.Item), b.Batch, b.Verdict,
					b.Before,
				),
				judge.Deciding(b.Verdict, groundsIn(b.Grounds)), why("It was judged again", b.Reason),
			}, by(b.Policy, b.JudgedAsOf),
		)
	case BatchResult:
		return b.sentences()
	case BatchRejudged:
		return []string{
			fmt.Sprintf(
				"Batch %d is %s since reassessment %d, which changed %s in it: %s.", b.Batch, b.Verdict, b.Reassessment,
				plain.Count(b.Changed, "verdict"), counted(b.Cleared, b.Unproven, b.Refused, b.Companions),
			),
			why("It was judged again", b.Reason), by(b.Policy, b.JudgedAsOf),
		}
	case Reassessed:
		return []string{
			fmt.Sprintf(
				"Reassessment %d judged %s again, and changed %s.", b.Reassessment, plain.Count(b.Items, "item"),
				plain.Count(b.Changed, "verdict"),
			),
			why("It was asked for", b.Reason), plain.Text(b.Note), by(b.Policy, b.JudgedAsOf),
		}
	case BatchCancelled:
		return []string{fmt.Sprintf("Batch %d was ended before it was done.", b.Batch), why("That was decided", b.Reason)}
	case Settlement:
		return b.sentences()
	case ReferenceNoted:
		return b.sentences()
	case Drilled:
		outcome := "Nothing that was altered was cleared."
		if !b.Passed {
			outcome = "Something that was altered was cleared: that is an alarm."
		}
		return []string{
			fmt.Sprintf(
				"It was tried whether the check of batch %d can fail, on files of %s.", b.Batch, plain.Text(b.Source.Reference),
			), outcome,
		}
	case VisitReturned:
		return []string{
			fmt.Sprintf(
				"What was verified on site by satchel %s came back as batch %d: %s, %s on site by %s.", plain.Text(b.Satchel),
				b.Batch, plain.Count(b.Files, "file"), b.OnSite, plain.Text(b.JudgedBy),
			), plain.Text(b.Otherwise),
		}
	case SatchelPacked:
		return []string{fmt.Sprintf("Satchel %s was packed, and is good until %s.", plain.Text(b.Satchel), day(b.Until))}
	}
	if out := b.Kind(); out.Decides() {
		return decided(b)
	}
	return kept(b)
}

// decided says what decides from then on, of keys first.
func decided(b Body) []string {
	switch b := b.(type) {
	case KeyImported:
		of := ""
		if b.Publisher != "" {
			of = " for " + plain.Text(b.Publisher)
		}
		out := []string{
			fmt.Sprintf(
				"The key %s of %s came in%s, from %s. It was %s.", plain.Grouped(string(b.Fingerprint)), names(b.UserIDs), of,
				plain.Text(b.Source), b.Result,
			),
		}
		if len(b.Changes) > 0 {
			out = append(out, "What it changed: "+plain.Text(strings.Join(b.Changes, "; "))+".")
		}
		return out
	case KeyStep:
		return b.sentences()
	case Sighting:
		outcome := "It agrees."
		if !b.Agrees {
			outcome = fmt.Sprintf("It does not agree: %s was read.", plain.Grouped(string(b.Read)))
		}
		return []string{
			fmt.Sprintf(
				"The fingerprint of the key %s was sighted: %s, %s.", plain.Grouped(string(b.Fingerprint)),
				strings.ReplaceAll(string(b.Channel), "-", " "), plain.Text(b.Place),
			),
			outcome, note(b.Note),
		}
	case ConflictResolved:
		return []string{
			fmt.Sprintf(
				"A sighting that contradicts the key %s, record %d, was explained.", plain.Grouped(string(b.Fingerprint)), b.Sighting,
			),
			why("It differs", b.Reason),
		}
	case AdmissionProposed:
		return []string{
			fmt.Sprintf(
				"It was proposed to admit the key %s as %s of %s.", plain.Grouped(string(b.Fingerprint)), role(b.Role),
				plain.Text(b.Publisher),
			),
			why("That was proposed", b.Reason),
		}
	case ProposalDeclined:
		return []string{
			fmt.Sprintf(
				"The proposal of record %d, by %s, to admit the key %s was declined.", b.Proposal, plain.Text(b.ProposedBy),
				plain.Grouped(string(b.Fingerprint)),
			),
			why("That was decided", b.Reason),
		}
	}
	return ruled(b)
}

// ruled says what publishers are known, and what is asked of evidence.
func ruled(b Body) []string {
	switch b := b.(type) {
	case PublisherAdded:
		return []string{
			fmt.Sprintf(
				"The publisher %s, called %s, was added. Its keys may sign %s.", plain.Quoted(b.Name), plain.Text(b.Slug),
				scope(b.Scope),
			),
		}
	case PublisherChanged:
		return []string{
			fmt.Sprintf(
				"What is known of the publisher %s was changed. Its keys may sign %s.", plain.Text(b.After.Slug),
				scope(b.After.Scope),
			),
		}
	case PolicySet:
		whose := "for everybody"
		if slug, own := strings.CutPrefix(b.Name, OfPublisher); own {
			whose = "for " + plain.Text(slug)
			if len(b.Own) > 0 {
				whose += ", which has of its own " + plain.Text(strings.Join(b.Own, ", "))
			}
		}
		return []string{
			fmt.Sprintf("Version %d of the policy is in force from then on, %s.", b.Version, whose),
			why("It was changed", b.Reason),
		}
	case WaiverGranted:
		return []string{
			fmt.Sprintf(
				"The ground %s was waived for %s, until %s.", plain.Text(b.Ground),
				plain.Text(strings.Join(distinct([]string{b.Publisher, b.Pattern}), ", ")),
				judge.LastDay(b.Until),
			),
			why("It was granted", b.Reason),
		}
	case WaiverEnded:
		return []string{fmt.Sprintf("The waiver of record %d was ended.", b.Record), why("It was ended", b.Reason)}
	case RowsAdopted:
		return []string{
			fmt.Sprintf(
				"%d rows of earlier versions, of which no record says everything, were taken as they were.", len(b.Rows),
			),
		}
	}
	return nil
}

// kept says what concerns people, devices and the ledger itself.
func kept(b Body) []string {
	switch b := b.(type) {
	case UserAdded:
		return []string{fmt.Sprintf("%s can sign in from then on, as %s.", plain.Text(b.Name), b.Role)}
	case UserChanged:
		if b.Disabled {
			return []string{fmt.Sprintf("%s cannot sign in any more.", plain.Text(b.Name)), why("That was decided", b.Reason)}
		}
		return []string{
			fmt.Sprintf("What is known of %s was changed: %s is their role.", plain.Text(b.Name), b.Role),
			why("It was changed", b.Reason),
		}
	case TokenIssued:
		return []string{
			fmt.Sprintf(
				"A token of %s, number %d, was issued: %s, as %s, until %s.", plain.Text(b.Owner), b.Token,
				plain.Quoted(b.Label), b.Role, day(b.Expires),
			),
		}
	case TokenRevoked:
		return []string{fmt.Sprintf("Token %d was ended.", b.Token)}
	case DeviceSet:
		what := "The device " + plain.Text(b.Device.Name)
		if b.Device.Kind != "" {
			what += ", of the kind " + plain.Text(b.Device.Kind) + ","
		}
		what += " is known from then on as the record says."
		return []string{what, why("It is not asked any more", b.Device.Retired)}
	case DeviceKindSet:
		return []string{
			fmt.Sprintf("The kind of device %s is described from then on as the record says.", plain.Text(b.DeviceKind.Name)),
			why("It is not used any more", b.DeviceKind.Retired),
		}
	case LedgerRestored:
		return []string{
			fmt.Sprintf(
				"A backup was restored on purpose: the ledger had %d records, and went on from %d.", b.Before.Size, b.After.Size,
			),
		}
	case Audited:
		if b.Holds {
			return []string{
				fmt.Sprintf("An audit that was due read the records from %d to %d, and everything held.", b.From, b.Size-1),
			}
		}
		return []string{
			fmt.Sprintf(
				"An audit that was due read the records from %d to %d. It did not hold: %s", b.From, b.Size-1,
				plain.Text(b.Found),
			),
		}
	case KeyRotated:
		return []string{
			fmt.Sprintf("The ledger goes on with another key, which the old one has signed over %d records.", b.Size),
		}
	case KeyLost:
		return []string{
			fmt.Sprintf(
				"The ledger goes on with another key, for the old one is lost. "+
					"That the %d records before are as they were can be shown by older checkpoints only.",
				b.Size,
			),
		}
	}
	return nil
}

func (b ItemOutcome) sentences() []string {
	what := fmt.Sprintf("%s of batch %d was verified", plain.Text(b.Item), b.Batch)
	if b.Verdict != "" {
		what += fmt.Sprintf(", and is %s", b.Verdict)
	}
	grounds := groundsIn(b.Grounds)
	out := []string{what + ".", judge.Deciding(b.Verdict, grounds)}
	for _, g := range grounds {
		matters := g.Effect == judge.Refuses || g.Effect == judge.Withholds || g.Signature != nil || g.Waiver != nil
		if matters && g.Sentence != out[1] {
			out = append(out, g.Sentence)
		}
	}
	digests, err := b.Digests()
	if value := digests["SHA-256"]; err == nil && value != "" {
		out = append(out, fmt.Sprintf("It has %d bytes; their SHA-256 is %s.", b.Size, plain.Text(value)))
	}
	if len(b.Expected.Publishers) > 0 {
		out = append(out, "It was expected from "+plain.Text(strings.Join(b.Expected.Publishers, " or "))+".")
	}
	return append(out, by(b.Policy, b.JudgedAsOf))
}

func (b BatchResult) sentences() []string {
	what := fmt.Sprintf("Batch %d, %s, has ended %s.", b.Batch, plain.Text(b.reference().Reference), b.Verdict)
	if b.State != state.BatchDone {
		what = fmt.Sprintf("Batch %d, %s, is %s.", b.Batch, plain.Text(b.reference().Reference), b.State)
	}
	out := []string{what, fmt.Sprintf(
		"It has %s.", counted(b.Cleared, b.Unproven, b.Refused, b.Companions),
	), plain.Text(b.Note)}
	if b.Absent > 0 {
		out = append(out, fmt.Sprintf("Its lists name %s that are not there.", plain.Count(b.Absent, "file")))
	}
	if b.Label != "" {
		out = append(out, "Its label is "+plain.Quoted(b.Label)+".")
	}
	return append(out, by(b.Policy, b.JudgedAsOf))
}

func (b KeyStep) sentences() []string {
	key := "The key " + plain.Grouped(string(b.Fingerprint))
	var out []string
	switch b.To {
	case keyring.Admitted:
		what := fmt.Sprintf("%s was admitted as %s of %s.", key, role(b.Role), plain.Text(b.Publisher))
		if b.Until != nil {
			what += fmt.Sprintf(" It counts for what it signed before %s.", day(*b.Until))
		}
		out = append(out, what)
		if len(b.Sightings) > 0 {
			out = append(out, fmt.Sprintf("It was sighted in %s %s.", noun(len(b.Sightings), "record"), listed(b.Sightings)))
		}
		if len(b.Anchors) > 0 {
			out = append(out, fmt.Sprintf("%s of the publisher's certified it.", plain.Count(len(b.Anchors), "anchor")))
		}
		if b.ProposedBy != "" {
			out = append(out, fmt.Sprintf("%s had proposed it.", plain.Text(b.ProposedBy)))
		}
	case keyring.Withdrawn:
		out = append(out, key+" was withdrawn: it counts no longer.")
	case keyring.Candidate:
		out = append(out, key+" is a candidate again.")
	}
	out = append(out, why("That was decided", b.Reason))
	if b.Policy > 0 {
		out = append(out, fmt.Sprintf("By version %d of the policy.", b.Policy))
	}
	return out
}

func why(what, reason string) string {
	if reason == "" {
		return ""
	}
	return fmt.Sprintf("%s, because: %s", what, plain.Quoted(reason))
}

func note(text string) string {
	if text == "" {
		return ""
	}
	return "Noted with it: " + plain.Quoted(text)
}

func by(policy int64, at time.Time) string {
	if at.IsZero() {
		return fmt.Sprintf("It was judged by version %d of the policy.", policy)
	}
	return fmt.Sprintf(
		"It was judged by version %d of the policy, and by the keyring, as of %s.", policy, second(at),
	)
}

func counted(cleared, unproven, refused, companions int) string {
	out := fmt.Sprintf("%d cleared, %d unproven and %d refused", cleared, unproven, refused)
	if companions > 0 {
		out += ", and " + plain.Count(companions, "companion")
	}
	return out
}

func noun(n int, one string) string {
	if n == 1 {
		return one
	}
	return one + "s"
}

func listed(positions []int64) string {
	out := make([]string, len(positions))
	for i, p := range positions {
		out[i] = fmt.Sprint(p)
	}
	return strings.Join(out, ", ")
}

func names(ids []string) string {
	switch len(ids) {
	case 0:
		return "nobody it names"
	case 1:
		return plain.Quoted(ids[0])
	}
	return fmt.Sprintf("%s, with %s more,", plain.Quoted(ids[0]), plain.Count(len(ids)-1, "name"))
}

func scope(patterns []string) string {
	if len(patterns) == 0 {
		return "files of any name, where they are expected from it"
	}
	return plain.Text(strings.Join(patterns, ", "))
}

func role(r keyring.Role) string {
	if r == "" {
		return "a key"
	}
	if r == keyring.Anchor {
		return "an anchor"
	}
	return "a " + string(r) + " key"
}

func day(t time.Time) string { return t.UTC().Format(time.DateOnly) }

func second(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05 UTC") }
