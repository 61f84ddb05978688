package device

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"endeixis/core/diagnose"
	"endeixis/core/digest"
)

const good = `# a comment
kind: pump-unit
title: Pump unit
reach: console
prompt: '^pump> $'
answer_within: 90s
slots:
  a: {title: slot A, sent: "0"}
  b: {title: slot B, sent: "1", bytes: 0x1000}
ask:
  SHA-256: "fw sum {slot} sha256"
  MD5: "fw sum {slot} md5"
  crc32: "fw sum {slot} crc"
answer: '(?m)^slot (?P<slot>\w+)(?: \((?P<size>\d+)\))?(?: (?P<algorithm>[\w-]+))? = (?P<digest>[0-9A-Fa-f :]+)$'
refusal: 'error: (?P<reason>.*)'
`

func kind(t *testing.T) *Kind {
	t.Helper()
	k, err := ParseKind("pump.yaml", []byte(good))
	require.NoError(t, err)
	return k
}

func TestParseKind(t *testing.T) {
	k := kind(t)
	assert.Equal(t, "pump-unit", k.Name)
	assert.Equal(t, 90*time.Second, k.AnswerWithin)
	assert.Equal(t, 10*time.Second, k.ConnectWithin)
	assert.Equal(
		t, []digest.Algorithm{digest.SHA256, digest.MD5, digest.CRC32}, k.Algorithms(), "the hardest to forge first",
	)
	assert.Equal(t, "fw sum 1 sha256", k.Question(k.Slot("b"), digest.SHA256))
	assert.Equal(t, int64(4096), k.Slot("b").Bytes)
	assert.Nil(t, k.Slot("c"))
	assert.Len(t, k.Digest, 32)
}

// TestKindMistakes: each is told with its line, and in words that say what to do.
func TestKindMistakes(t *testing.T) {
	for name, c := range map[string]struct {
		replace, by string
		line        int
		says        string
	}{
		"a pattern that looks back":      {`refusal: 'error: (?P<reason>.*)'`, `refusal: '(a+)\1'`, 15, "RE2"},
		"a pattern that looks ahead":     {`prompt: '^pump> $'`, `prompt: '(?=x)y'`, 5, "RE2"},
		"a pattern that counts too far":  {`prompt: '^pump> $'`, `prompt: '(x{1000}){1000}'`, 5, "pattern of prompt"},
		"a pattern longer than any":      {`prompt: '^pump> $'`, `prompt: '` + strings.Repeat("x", 1001) + `'`, 5, "longer than"},
		"no value in the answer":         {`(?P<digest>[0-9A-Fa-f :]+)`, `([0-9A-Fa-f :]+)`, 14, "(?P<digest>"},
		"a group of no meaning":          {`(?P<reason>.*)`, `(?P<why>.*)`, 15, "nothing is known of that"},
		"a prompt that is always there":  {`prompt: '^pump> $'`, `prompt: 'p*'`, 5, "matches where nothing was said"},
		"no prompt":                      {"prompt: '^pump> $'\n", "", 1, "prompt is missing"},
		"a slot that is a line":          {`sent: "0"`, `sent: "0\nfw erase 0"`, 8, "line break"},
		"a slot that is a command":       {`sent: "0"`, `sent: "0; fw erase 0"`, 8, "one word"},
		"a slot with a space":            {`sent: "0"`, `sent: "0 md5"`, 8, "one word"},
		"a question of two lines":        {`"fw sum {slot} md5"`, `"fw sum {slot} md5\rfw erase 0"`, 12, "line break"},
		"a question with a separator":    {`"fw sum {slot} md5"`, `"fw sum {slot}\u2028md5"`, 12, "line break"},
		"what is expected is sent":       {`"fw sum {slot} md5"`, `"fw verify {slot} {expected}"`, 12, "only {slot}"},
		"no slot in the question":        {`"fw sum {slot} md5"`, `"fw sum md5"`, 12, "which slot"},
		"an algorithm of no name":        {`MD5:`, `MD17:`, 12, "no algorithm"},
		"an algorithm twice":             {`crc32:`, `md-5:`, 13, "twice"},
		"a question that answers":        {`"fw sum {slot} md5"`, `"slot {slot} = 00"`, 14, "looks like an answer"},
		"a field of no meaning":          {`title: Pump unit`, "title: Pump unit\nspeed: 9600", 4, "no field here"},
		"a field twice":                  {`title: Pump unit`, "title: Pump unit\ntitle: Again", 4, "already defined"},
		"a way of no name":               {`reach: console`, `reach: telnet`, 4, "one of console, command, typed"},
		"a time without an end":          {`answer_within: 90s`, `answer_within: 1000h`, 6, "from 100ms to 1h"},
		"a time that is none":            {`answer_within: 90s`, `answer_within: soon`, 6, "from 100ms to 1h"},
		"no kind":                        {"kind: pump-unit\n", "", 1, "kind is missing"},
		"a name with capitals":           {"kind: pump-unit", "kind: Pump_Unit", 2, "small letters"},
		"a list for a text":              {"title: Pump unit", "title: [a, b]", 3, "text of one line"},
		"a text for slots":               {"slots:\n  a: {title: slot A, sent: \"0\"}\n  b: {title: slot B, sent: \"1\", bytes: 0x1000}", "slots: none", 7, "names with their values"},
		"fill where the image is hashed": {`answer_within: 90s`, "fill: \"ff\"", 6, "cover the slot"},
		"a slot of no length, filled":    {`answer_within: 90s`, "covers: slot\nfill: \"ff\"", 9, "bytes is missing"},
		"nothing to fill with":           {`answer_within: 90s`, "covers: slot", 1, "fill is missing"},
		"no YAML":                        {"kind: pump-unit", "kind: 'pump", 0, "YAML"},
		"two documents":                  {"refusal:", "---\nrefusal:", 1, "one kind"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, good, c.replace)
			_, err := ParseKind("pump.yaml", []byte(strings.Replace(good, c.replace, c.by, 1)))
			var wrong *KindError
			require.ErrorAs(t, err, &wrong)
			assert.Contains(t, err.Error(), c.says)
			if c.line > 0 {
				assert.Contains(t, err.Error(), fmt.Sprintf("pump.yaml, line %d: ", c.line))
			}
		})
	}
	for _, text := range []string{"", "\x00", "- a\n- b", "{", "a: &x [*x]\n", strings.Repeat("[", 5000), strings.Repeat("x", maxText+1), "\xff\xfe"} {
		_, err := ParseKind("odd.yaml", []byte(text))
		var wrong *KindError
		assert.ErrorAs(t, err, &wrong, "%.20q", text)
	}
}

// sum is a value of MD5, and other another.
const (
	sum   = "0123456789abcdef0123456789abcdef"
	other = "fedcba98fedcba98fedcba98fedcba98"
)

// TestRead: what devices say, well and badly.
func TestRead(t *testing.T) {
	k := kind(t)
	for name, c := range map[string]struct {
		said string
		code diagnose.Code
		size int64
	}{
		"plain":                              {said: "slot 0 = " + sum + "\n"},
		"with carriage returns":              {said: "\r\nslot 0 = " + sum + "\r\n"},
		"its name for ours":                  {said: "slot A = " + sum + "\n"},
		"in groups and capitals":             {said: "slot 0 = 01234567 89ABCDEF 01234567 89ABCDEF\n"},
		"with colons":                        {said: "slot 0 = 01:23:45:67:89:ab:cd:ef:01:23:45:67:89:ab:cd:ef\n"},
		"with its length":                    {said: "slot 0 (4096) md5 = " + sum + "\n", size: 4096},
		"in colours":                         {said: "\x1b[1;32mslot 0 = " + sum + "\x1b[0m\r\n"},
		"with a title for the window":        {said: "\x1b]0;pump\x07slot 0 = " + sum + "\r\n"},
		"behind the question":                {said: "fw sum 0 md5\r\nslot 0 = " + sum + "\r\n"},
		"said twice":                         {said: "slot 0 = " + sum + "\nslot 0 = " + strings.ToUpper(sum) + "\n"},
		"the question and nothing else":      {said: "fw sum 0 md5\r\n", code: diagnose.DeviceUnclear},
		"nothing":                            {said: "", code: diagnose.DeviceUnclear},
		"two values":                         {said: "slot 0 = " + sum + "\nslot 0 = " + other + "\n", code: diagnose.DeviceUnclear},
		"two lengths":                        {said: "slot 0 (1) = " + sum + "\nslot 0 (2) = " + sum + "\n", code: diagnose.DeviceUnclear},
		"another slot":                       {said: "slot 1 = " + sum + "\n", code: diagnose.DeviceOtherSlot},
		"all slots":                          {said: "slot 1 = " + other + "\nslot 0 = " + sum + "\nslot 2 = " + other + "\n"},
		"all slots but this":                 {said: "slot 1 = " + other + "\nslot 2 = " + other + "\n", code: diagnose.DeviceOtherSlot},
		"this slot twice in a list":          {said: "slot 0 = " + sum + "\nslot 1 = " + other + "\nslot 0 = " + other + "\n", code: diagnose.DeviceUnclear},
		"a value cut short":                  {said: "slot 0 = " + sum[:30] + "\n", code: diagnose.DeviceUnclear},
		"a value too long":                   {said: "slot 0 = " + sum + "00\n", code: diagnose.DeviceUnclear},
		"by another algorithm":               {said: "slot 0 sha256 = " + sum + sum + "\n", code: diagnose.DeviceUnclear},
		"by an algorithm nobody knows":       {said: "slot 0 magic = " + sum + "\n", code: diagnose.DeviceUnclear},
		"refused":                            {said: "error: slot busy\n", code: diagnose.DeviceRefused},
		"refused after an answer":            {said: "slot 0 = " + sum + "\nerror: later\n"},
		"a page":                             {said: "<html>" + sum + "</html>", code: diagnose.DeviceUnclear},
		"a hundred MiB":                      {said: strings.Repeat("slot 0 = "+sum+"\n", 3<<20/42), code: diagnose.DeviceUnclear},
		"letters that turn round":            {said: "slot 0 = \u202e" + sum + "\n", code: diagnose.DeviceUnclear},
		"an answer hidden in a control text": {said: "\x1bPslot 0 = " + sum + "\n\x1b\\\n", code: diagnose.DeviceUnclear},
	} {
		t.Run(name, func(t *testing.T) {
			a, f := k.Read(k.Slot("a"), digest.MD5, []byte(c.said))
			if c.code != "" {
				require.NotNil(t, f)
				assert.Equal(t, c.code, f.Code)
				assert.NotEmpty(t, f.Advice)
				assert.NotContains(t, f.Sentence+f.Advice, "\x1b")
				return
			}
			require.Nil(t, f)
			assert.Equal(t, sum, a.Value.String())
			assert.Equal(t, c.size, a.Size)
		})
	}
	a, f := k.Read(k.Slot("a"), digest.CRC32, []byte("slot 0 crc32c = 01020304\n"))
	require.Nil(t, f)
	assert.Equal(t, digest.CRC32C, a.Algorithm, "a variant that it names itself")
}

// TestAnAnswerBelongsToItsQuestion: it names the slot, or comes behind the echo of the
// question, or is asked for on a connection of its own.
func TestAnAnswerBelongsToItsQuestion(t *testing.T) {
	replaced := func(old, new string) *Kind {
		k, err := ParseKind("pump.yaml", []byte(strings.Replace(good, old, new, 1)))
		require.NoError(t, err)
		return k
	}
	perhaps := replaced(`^slot (?P<slot>\w+)`, `^(?:slot (?P<slot>\w+))?`)
	never := replaced(`^slot (?P<slot>\w+)`, `^slot`)
	console := replaced(`  b: {title: slot B, sent: "1", bytes: 0x1000}`+"\n", "")
	nameless, echo := " = "+sum+"\n", "fw sum 0 md5\n"
	for name, c := range map[string]struct {
		kind  *Kind
		said  string
		apart bool
		loose bool
	}{
		"it names the slot":             {perhaps, "slot 0" + nameless, false, false},
		"it names another":              {perhaps, "slot 1" + nameless, false, true},
		"behind the echo":               {perhaps, echo + nameless, false, false},
		"behind the echo of another":    {perhaps, "fw sum 1 md5\n" + nameless, false, true},
		"neither":                       {perhaps, nameless, false, true},
		"a prompt that came too early":  {perhaps, "pressure 4.2\n", false, true},
		"a refusal":                     {perhaps, "error: busy\n", false, false},
		"a kind that never names slots": {never, "slot" + nameless, true, false},
		"one slot":                      {console, "slot 0" + nameless, false, false},
	} {
		assert.Equal(t, c.apart, c.kind.Apart(), name)
		assert.Equal(t, c.loose, c.kind.Loose(c.kind.Slot("a"), digest.MD5, []byte(c.said)), name)
	}
	a, f := perhaps.Copied(perhaps.Slot("a"), []digest.Algorithm{digest.MD5}, []byte(nameless))
	require.Nil(t, f, "a person says which slot it is")
	assert.Equal(t, sum, a.Value.String())
	// What names no slot may be the other's where the other is spoken of beside it.
	neighbour := "slot 1 = " + other + "\n" + nameless
	_, f = perhaps.Copied(perhaps.Slot("a"), []digest.Algorithm{digest.MD5}, []byte(neighbour))
	require.NotNil(t, f)
	assert.Equal(t, diagnose.DeviceOtherSlot, f.Code)
	_, f = perhaps.Read(perhaps.Slot("a"), digest.MD5, []byte(echo+neighbour))
	require.NotNil(t, f)
	assert.Equal(t, diagnose.DeviceOtherSlot, f.Code)
}

// TestTry: of a console the pasted text ends with the prompt that the description has, since
// without it the service would wait for one in vain.
func TestTry(t *testing.T) {
	k, asked := kind(t), "pump> fw sum 0 md5\nslot 0 = "+sum+"\n"
	a, f := k.Try(k.Slot("a"), []byte(asked+"pump> \n"))
	require.Nil(t, f)
	assert.Equal(t, sum, a.Value.String())
	for _, end := range []string{"", "bilge> ", "pump> and more"} {
		_, f := k.Try(k.Slot("a"), []byte(asked+end))
		require.NotNil(t, f, end)
		assert.Equal(t, diagnose.DeviceUnclear, f.Code, end)
		assert.Contains(t, f.Sentence, "is not the prompt", end)
	}
	_, f = k.Try(k.Slot("b"), []byte(asked+"pump> "))
	require.NotNil(t, f)
	assert.Equal(t, diagnose.DeviceOtherSlot, f.Code)
}

func TestCopied(t *testing.T) {
	k := kind(t)
	for name, c := range map[string]struct {
		text string
		code diagnose.Code
	}{
		"as it was shown":               {text: "pump> fw sum 0 md5\nslot 0 = " + sum + "\npump> "},
		"the value alone":               {text: sum},
		"in groups":                     {text: "0123 4567 89AB CDEF 0123 4567 89AB CDEF"},
		"in a sentence":                 {text: "The panel says 0x" + sum + ", I think."},
		"two values":                    {text: sum + "\n" + other, code: diagnose.DeviceUnclear},
		"the value twice":               {text: sum + "\n" + strings.ToUpper(sum)},
		"of another slot":               {text: "slot 1 = " + sum, code: diagnose.DeviceOtherSlot},
		"refused":                       {text: "error: busy", code: diagnose.DeviceRefused},
		"no value":                      {text: "it was fine", code: diagnose.DeviceUnclear},
		"half a value":                  {text: sum[:20], code: diagnose.DeviceUnclear},
		"a value in a longer one":       {text: sum + sum[:4], code: diagnose.DeviceUnclear},
		"what was expected beside it":   {text: "expected " + other + "\ngot " + sum, code: diagnose.DeviceUnclear},
		"a CRC and an MD5 of one image": {text: "crc32: 01020304\nmd5: " + sum},
		"one of them without its name":  {text: "01020304\nmd5: " + sum, code: diagnose.DeviceUnclear},
		"two of each":                   {text: "crc32: 01020304\nmd5: " + sum + "\ncrc32: 01020305\nmd5: " + other, code: diagnose.DeviceUnclear},
		"an MD5 over two lines":         {text: "MD5 of the slot:\n  " + sum[:16] + "\n  " + sum[16:] + "\n"},
		"a value over two lines":        {text: "SUM: 0123 4567 89AB CDEF\n     0123 4567 89AB CDEF\n"},
		"a SHA-512 beside it":           {text: "md5 " + sum + "\nsha512 " + sum + sum + sum + sum, code: diagnose.DeviceUnclear},
		"only a SHA-512":                {text: "sha512 " + sum + sum + sum + sum, code: diagnose.DeviceUnclear},
		"a table":                       {text: "slot | sum\n-----+----\na    | " + sum + "\n"},
		"a table of two slots":          {text: "slot | sum\n-----+----\na    | " + sum + "\nb    | " + other + "\n", code: diagnose.DeviceUnclear},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(
				t, name != "no value" && name != "half a value" && name != "a value in a longer one",
				k.Lacking(k.Slot("a"), []byte(c.text)) == "",
			)
			a, f := k.Copied(k.Slot("a"), k.Algorithms(), []byte(c.text))
			if c.code != "" {
				require.NotNil(t, f)
				assert.Equal(t, c.code, f.Code)
				return
			}
			require.Nil(t, f)
			assert.Equal(t, sum, a.Value.String())
			assert.Equal(t, digest.MD5, a.Algorithm)
		})
	}
}

// TestKindsOfConsoles: what a console has to be told first, where it stops, and how it writes
// checksums.
func TestKindsOfConsoles(t *testing.T) {
	kindWith := func(more string) (*Kind, error) { return ParseKind("pump.yaml", []byte(good+more)) }
	k, err := kindWith("before: [\"terminal length 0\", enable]\npager: '--More--$'\nchecksum_order: reversed\n")
	require.NoError(t, err)
	assert.Equal(t, []string{"terminal length 0", "enable"}, k.Before)
	assert.Equal(t, " ", k.PagerKey)
	crc := func(k *Kind, text string) string {
		a, f := k.Read(k.Slot("a"), digest.CRC32, []byte("slot 0 = "+text+"\n"))
		require.Nil(t, f)
		return a.Value.String()
	}
	assert.Equal(t, "04030201", crc(k, "01020304"))
	plain, err := kindWith("")
	require.NoError(t, err)
	assert.Equal(t, "01020304", crc(plain, "0x01020304"[2:]))
	decimal, err := kindWith("checksum_base: decimal\n")
	require.NoError(t, err)
	assert.Equal(t, "01020304", crc(decimal, "16909060"))
	a, f := decimal.Read(decimal.Slot("a"), digest.MD5, []byte("slot 0 = "+sum+"\n"))
	require.Nil(t, f, "a digest is no number")
	assert.Equal(t, sum, a.Value.String())
	for more, says := range map[string]string{
		"before: enable\n":            "is a list of at most 10 lines",
		"before: [\"a\\nb\"]\n":       "line break",
		"before: [\"sum {slot}\"]\n":  "nothing stands for anything",
		"pager: ''\n":                 "",
		"pager: 'x*'\n":               "matches where nothing was said",
		"checksum_order: backwards\n": "is one of usual, reversed",
		"checksum_base: octal\n":      "is one of hexadecimal, decimal",
	} {
		_, err := kindWith(more)
		if says == "" {
			assert.NoError(t, err, more)
			continue
		}
		assert.ErrorContains(t, err, says, more)
	}
	assert.Equal(
		t, "tide 4.2\nslot 0 = 01\n",
		strings.ReplaceAll(
			Printed([]byte("tide 4.2\r\n--More--\b\b\b\b\b\b\b\b        \b\b\b\b\b\b\b\bslot 0 = 01\r\n")), "\u0000",
			"",
		),
	)
	assert.Equal(t, "ab\n", Printed([]byte("\b\b\bax\bb\n")))
}

func TestShown(t *testing.T) {
	assert.Equal(t, "slot 0\nbusy", Shown([]byte("\x1b[2J\r\n slot 0\r\nbusy \r\n")))
	assert.NotContains(t, Shown([]byte("a\u202eb\x00\x9b31mc")), "\u202e")
	assert.LessOrEqual(t, len(Shown([]byte(strings.Repeat("x", 1<<20)))), maxShown+10)
}

// FuzzKind: no description makes the reader fail, and none that is read has a line that
// a slot's name could add to.
func FuzzKind(f *testing.F) {
	f.Add([]byte(good), []byte("slot 0 = "+sum))
	f.Add([]byte("kind: x\n"), []byte("\x1b[31m"))
	f.Fuzz(func(t *testing.T, text, said []byte) {
		k, err := ParseKind("fuzz.yaml", text)
		if err != nil {
			var wrong *KindError
			require.ErrorAs(t, err, &wrong)
			k = nil
		}
		if k == nil {
			k, err = ParseKind("good.yaml", []byte(good))
			require.NoError(t, err)
		}
		for i := range k.Slots {
			for _, a := range k.Algorithms() {
				q := k.Question(&k.Slots[i], a)
				require.NotContains(t, q, "\n")
				require.NotContains(t, q, "\r")
				if answer, cause := k.Read(&k.Slots[i], a, said); cause == nil {
					require.Len(t, answer.Value, answer.Algorithm.Size())
				}
				_, echoed := k.Read(&k.Slots[i], a, []byte(q))
				require.NotNil(t, echoed, "the question was taken for its answer")
			}
		}
		Shown(said)
	})
}
