package query

import (
	"context"
	"encoding/hex"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"endeixis/internal/fault"
	"endeixis/internal/store"
)

const (
	// maxMeant bounds how many terms one filter may mean, such as the folders that have a word.
	maxMeant = 2000
	// leastDigits is how many digits of a digest or a fingerprint are told apart from chance.
	leastDigits = 8
)

// narrow reports whether a filter asks for more than lists show of a record.
func (f *RecordFilter) narrow() bool {
	return f.By != "" || f.Publisher != "" || f.Ground != "" || f.Cause != "" || f.Key != "" || f.Digest != "" ||
		f.Device != "" || f.Place != "" || f.Label != "" || f.Waiver != nil || f.From != nil || f.To != nil
}

// search looks for records by all that a filter has. What is asked of records that are many is looked for a while
// only: then the page may be short, or empty, and Next says where to go on. What fits is counted with the first page,
// as far as there is time.
func (s *Service) search(ctx context.Context, f RecordFilter, before int64) (Page[Record], error) {
	asked, none, err := s.searchOf(ctx, f, before)
	if err != nil {
		return Page[Record]{}, err
	}
	out := Page[Record]{Rows: []Record{}}
	count := 0
	if none {
		out.Count = &count
		return out, nil
	}
	start := time.Now()
	search, err := s.store.Search(ctx, asked)
	if err != nil {
		return Page[Record]{}, err
	}
	atOnce := s.atOnce
	if !search.Alone() {
		atOnce = max(1, s.atOnce/5)
	}
	for {
		found, err := s.store.LookFor(ctx, search, atOnce, f.Limit+1-len(out.Rows))
		if err != nil {
			return Page[Record]{}, err
		}
		out.Rows, count = append(out.Rows, each(found.Records, RecordOf)...), count+found.Fit
		out.AtLeast = !found.All
		full := len(out.Rows) > f.Limit
		counted := before != 0 || count >= s.atOnce
		if !found.All && !(full && counted) && time.Since(start) < s.patience/2 {
			continue // there is time to find more, or to count on
		}
		switch {
		case full:
			out.Rows = out.Rows[:f.Limit]
			out.Next = strconv.FormatInt(out.Rows[f.Limit-1].Position, 10)
		case !found.All:
			out.Next = strconv.FormatInt(found.Lowest, 10)
		}
		if before == 0 {
			out.Count = &count
		}
		return out, nil
	}
}

// searchOf puts a search together. none says that nothing can fit, for there is no such term.
func (s *Service) searchOf(
	ctx context.Context, f RecordFilter, before int64,
) (asked store.RecordSearch, none bool, err error) {
	for _, text := range []string{f.Name, f.By, f.Publisher, f.Device, f.Place, f.Label} {
		if !utf8.ValidString(text) || strings.ContainsRune(text, 0) {
			return asked, true, nil // nothing that is stored has it
		}
	}
	asked = store.RecordSearch{
		RecordFilter: f.store(before), By: f.By, From: f.From, To: f.To, Capped: s.atOnce,
	}
	waiver := ""
	if f.Waiver != nil {
		waiver = strconv.FormatInt(*f.Waiver, 10)
	}
	key, err := digits(f.Key, "key", "key")
	if err != nil {
		return asked, false, err
	}
	for _, t := range []struct {
		facet, value string
		how          store.TermMatch
	}{
		{store.WaiverFacet, waiver, store.Exactly},
		{store.KeyFacet, key, store.Edge},
		{store.DeviceFacet, f.Device, store.Exactly},
		{store.LabelFacet, f.Label, store.Containing},
		{store.PlaceFacet, f.Place, store.Containing},
		{store.CauseFacet, string(f.Cause), store.Exactly},
		{store.GroundFacet, string(f.Ground), store.Exactly},
		{store.PublisherFacet, f.Publisher, store.Exactly},
	} {
		if t.value == "" {
			continue
		}
		meant, err := s.store.TermNumbers(ctx, t.facet, t.value, t.how, maxMeant+1)
		if err != nil {
			return asked, false, err
		}
		switch {
		case len(meant) == 0:
			return asked, true, nil
		case len(meant) > maxMeant:
			return asked, false, fault.New(
				fault.Invalid, fault.WideSearch, "More than %d different values have %q in them.", maxMeant, t.value,
			).Advise("Give more of it.").At(t.facet)
		}
		asked.Terms = append(asked.Terms, meant)
	}
	digest, err := digits(f.Digest, "digest", "digest")
	if err == nil && digest != "" {
		asked.Digest = between(digest)
	}
	return asked, false, err
}

// digits reads hexadecimal digits as people write them: in any case, with spaces and colons, and with 0x before them.
func digits(given, what, field string) (string, error) {
	if strings.TrimSpace(given) == "" {
		return "", nil
	}
	out := strings.ToUpper(strings.NewReplacer(" ", "", ":", "", "\u00a0", "", "\t", "").Replace(given))
	out = strings.TrimPrefix(out, "0X")
	if strings.Trim(out, "0123456789ABCDEF") != "" {
		return "", fault.New(
			fault.Invalid, fault.WideSearch, "A %s is looked for by hexadecimal digits, 0 to 9 and a to f.", what,
		).At(field)
	}
	if len(out) < leastDigits {
		return "", fault.New(
			fault.Invalid, fault.WideSearch, "Give at least %d digits of the %s; fewer are in many by chance.",
			leastDigits, what,
		).At(field)
	}
	return out, nil
}

// between returns the first value that begins with some digits, and the first behind all of those, or nil.
func between(digits string) [][]byte {
	odd := len(digits)%2 == 1
	if odd {
		digits += "0"
	}
	from, err := hex.DecodeString(digits)
	if err != nil {
		return nil
	}
	step := byte(1)
	if odd {
		step = 16
	}
	to := append([]byte{}, from...)
	for i := len(to) - 1; i >= 0; i-- {
		to[i] += step
		if to[i] >= step {
			return [][]byte{from, to}
		}
		step = 1
	}
	return [][]byte{from, nil}
}
