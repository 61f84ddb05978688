package verify_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"pgregory.net/rapid"

	"endeixis/core/digest"
	"endeixis/core/judge"
	"endeixis/core/keyring"
	"endeixis/core/measure"
	"endeixis/core/survey"
	"endeixis/core/verify"
)

// judgedFolder verifies a folder and returns the outcomes of its artifacts by path.
func judgedFolder(t rapid.TB, files map[string]string) map[string]judge.Outcome {
	folder := fstest.MapFS{}
	for name, content := range files {
		folder[name] = &fstest.MapFile{Data: []byte(content)}
	}
	plan, err := survey.Run(context.Background(), folder, survey.Options{})
	if err != nil {
		t.Fatal(err)
	}
	measured, err := verify.Measure(
		context.Background(), folder, plan, measure.Attribution{Maker: measure.Service}, digest.Gain{},
	)
	if err != nil {
		t.Fatal(err)
	}
	session := verify.New(judge.Basis{Keyring: keyring.New(nil, nil), Policy: judge.DefaultPolicy(), Now: time.Now()})
	out := map[string]judge.Outcome{}
	for _, role := range []survey.Role{survey.Manifest, survey.Artifact} {
		for i := range plan.Items {
			item := &plan.Items[i]
			m := measured[item.Path]
			switch {
			case item.Role != role:
			case role == survey.Manifest:
				session.Manifest(item, &m)
			default:
				out[item.Path] = session.Judge(item, &m)
			}
		}
	}
	return out
}

// columnsOf are things that stand beside a name and its value, of which nothing says that
// they are the size: numbers of rows, constants, years, counts of links, dates, numbers of
// eight digits.
var columnsOf = map[string]func(i int) string{
	"row":      func(i int) string { return fmt.Sprint(i + 1) },
	"row dot":  func(i int) string { return fmt.Sprintf("%d.", i+1) },
	"constant": func(int) string { return "2" },
	"year":     func(i int) string { return fmt.Sprint(2029 + i) },
	"date":     func(i int) string { return fmt.Sprintf("2031-04-%02d", i+1) },
	"eight":    func(i int) string { return fmt.Sprint(20310401 + i) },
	"phone":    func(i int) string { return fmt.Sprint(79460123 + 7*i) },
	"large":    func(i int) string { return fmt.Sprint(1_000_000 + 4096*i) },
	"mode":     func(int) string { return "-rw-r--r--" },
}

// TestGuessesDecideNothing writes lists with columns of whatever numbers in whatever order:
// no file with the right bytes is refused, and no altered one comes out better for them.
func TestGuessesDecideNothing(t *testing.T) {
	kinds := []string{"row", "row dot", "constant", "year", "date", "eight", "phone", "large", "mode"}
	rapid.Check(t, func(t *rapid.T) {
		algorithm := rapid.SampledFrom([]digest.Algorithm{digest.MD5, digest.SHA1, digest.SHA256, digest.SHA512}).
			Draw(t, "algorithm")
		columns := append(
			[]string{"name", "value"},
			rapid.SliceOfNDistinct(rapid.SampledFrom(kinds), 0, 3, rapid.ID[string]).Draw(t, "others")...)
		columns = rapid.Permutation(columns).Draw(t, "columns")
		between := rapid.SampledFrom([]string{" ", "  ", "\t", ",", "; ", " | "}).Draw(t, "between")
		heading := rapid.SampledFrom([]string{"", "# " + algorithm.String() + "\n", algorithm.String() + ":\n"}).
			Draw(t, "heading")
		list := rapid.SampledFrom(
			[]string{"list.txt", "CHECKSUMS", strings.ReplaceAll(algorithm.String(), "-", "") + "SUMS"},
		).
			Draw(t, "list")
		var text strings.Builder
		text.WriteString(heading)
		files := map[string]string{}
		for i, name := range []string{"gauge-fw-4.2.bin", "boot.img", "tide-table.tar.xz", "lamp.iso"}[:rapid.IntRange(1, 4).Draw(t, "files")] {
			files[name] = strings.Repeat(name, 30)
			h := algorithm.New()
			h.Write([]byte(files[name]))
			var cells []string
			for _, c := range columns {
				switch c {
				case "name":
					cells = append(cells, name)
				case "value":
					cells = append(cells, fmt.Sprintf("%x", h.Sum(nil)))
				default:
					cells = append(cells, columnsOf[c](i))
				}
			}
			text.WriteString(strings.Join(cells, between) + "\n")
		}
		files[list] = text.String()
		right := judgedFolder(t, files)
		for name, out := range right {
			if out.Verdict == judge.Refused {
				t.Fatalf("%s is refused, and has the right bytes: %+v\n%s", name, out.Grounds, text.String())
			}
		}
		for name := range right {
			if name == list {
				continue
			}
			altered := map[string]string{}
			for n, content := range files {
				altered[n] = content
			}
			altered[name] = "X" + altered[name][1:]
			out := judgedFolder(t, altered)[name]
			if judge.Compared(out.Grounds) == judge.Matches ||
				out.Verdict != judge.Refused && judge.Compared(right[name].Grounds) == judge.Matches {
				t.Fatalf("%s is altered and not refused: %+v\n%s", name, out.Grounds, text.String())
			}
		}
	})
}
