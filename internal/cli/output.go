package cli

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strings"
	"time"
	"unicode"

	"github.com/goccy/go-yaml"
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"endeixis/core/diagnose"
	"endeixis/core/plain"
	"endeixis/internal/wire"
)

// a grid is a table of plain text.
type grid struct {
	header []string
	rows   [][]string
	empty  string // said instead of a table without rows
}

func (g *grid) add(cells ...string) { g.rows = append(g.rows, cells) }

// print shows a value: as JSON or YAML in full, as CSV by the grid's cells, or
// by calling show for people.
func (a *app) print(value any, g *grid, show func()) error {
	switch a.output {
	case "json":
		var text bytes.Buffer
		encoder := json.NewEncoder(&text)
		encoder.SetIndent("", "  ")
		encoder.SetEscapeHTML(false)
		if err := encoder.Encode(value); err != nil {
			return err
		}
		_, err := a.stdout.Write(plain.JSON(text.Bytes()))
		return err
	case "yaml":
		text, err := json.Marshal(value)
		if err != nil {
			return err
		}
		shown, err := yaml.JSONToYAML(text)
		if err != nil {
			return err
		}
		if !bytes.Equal(plain.JSON(shown), shown) ||
			bytes.ContainsFunc(shown, func(r rune) bool { return r != '\n' && unicode.IsControl(r) }) {
			// A terminal would obey some of it. JSON is YAML too, and has
			// escapes for all of it.
			shown = append(plain.JSON(text), '\n')
		}
		_, err = a.stdout.Write(shown)
		return err
	case "csv":
		w := csv.NewWriter(a.stdout)
		if err := w.Write(g.header); err != nil {
			return err
		}
		for _, row := range g.rows {
			safe := make([]string, len(row))
			for i, cell := range row {
				safe[i] = plain.Cell(cell)
			}
			if err := w.Write(safe); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	if show != nil {
		show()
		return nil
	}
	a.draw(g)
	return nil
}

// draw shows a grid for people.
func (a *app) draw(g *grid) {
	if len(g.rows) == 0 {
		fmt.Fprintln(a.stdout, g.empty)
		return
	}
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.Options{SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	t.SetStyle(style)
	if a.terminal {
		t.SetColumnConfigs(
			[]table.ColumnConfig{{Number: len(g.header), WidthMax: a.lastColumn(g), WidthMaxEnforcer: text.WrapSoft}},
		)
	}
	header := table.Row{}
	for _, h := range g.header {
		header = append(header, h)
	}
	t.AppendHeader(header)
	for _, row := range g.rows {
		cells := table.Row{}
		for _, cell := range row {
			cells = append(cells, a.paint(plain.Text(cell)))
		}
		t.AppendRow(cells)
	}
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(a.stdout, strings.TrimRight(line, " "))
	}
}

// lastColumn returns the columns of the terminal that are left for the last
// column of a table, so that long text is folded there and nowhere else.
func (a *app) lastColumn(g *grid) int {
	used := 0
	for i := range len(g.header) - 1 {
		widest := len(g.header[i])
		for _, row := range g.rows {
			widest = max(widest, text.StringWidthWithoutEscSequences(a.paint(plain.Text(row[i]))))
		}
		used += widest + 2
	}
	columns, _, err := term.GetSize(int(os.Stdout.Fd()))
	if err != nil {
		columns = 100
	}
	return max(columns-used-2, 20)
}

// coloured reports whether colour may be used.
func (a *app) coloured() bool { return a.terminal && os.Getenv("NO_COLOR") == "" }

var paints = map[string]text.Colors{
	"cleared": {
		text.FgGreen,
	},
	"admitted": {text.FgGreen}, "agrees": {text.FgGreen}, "holds": {text.FgGreen}, "resolved": {text.FgYellow},
	"waived": {text.FgYellow}, "unproven": {text.FgYellow}, "candidate": {text.FgYellow},
	"missing": {text.FgYellow},
	"refused": {
		text.FgRed,
	},
	"withdrawn": {text.FgRed}, "conflict": {text.FgRed}, "broken": {text.FgRed},
	"invalid": {text.FgRed}, "revoked": {text.FgRed}, "certifier-unfit": {text.FgRed},
	"expired": {text.FgYellow}, "weak": {text.FgYellow}, "not-vouching": {text.FgYellow},
	"failed": {text.FgRed},
}

var marks = map[string]string{
	"cleared":         "✓",
	"unproven":        "?",
	"companion":       "+",
	"refused":         "✗",
	"absent":          "–",
	"holds":           "✓",
	"missing":         "?",
	"broken":          "✗",
	"unreached":       "·",
	"waived":          "○",
	"invalid":         "✗",
	"revoked":         "✗",
	"certifier-unfit": "✗",
	"expired":         "?",
	"weak":            "?",
	"not-vouching":    "?",
}

// paint puts a mark before the words that have one, and colours them.
func (a *app) paint(word string) string {
	out := word
	if mark, ok := marks[word]; ok {
		out = mark + " " + word
	}
	if colors, ok := paints[word]; ok && a.coloured() {
		return colors.Sprint(out)
	}
	return out
}

func (a *app) bold(s string) string {
	if a.coloured() {
		return text.Bold.Sprint(s)
	}
	return s
}

func (a *app) faint(s string) string {
	if a.coloured() {
		return text.Faint.Sprint(s)
	}
	return s
}

// narrowest and widest bound the columns to write in, and usualWidth is taken where there is
// no terminal.
const (
	narrowest  = 20
	widest     = 120
	usualWidth = 100
)

// width returns the columns to write in.
func (a *app) width() int {
	if a.columns > 0 {
		return a.columns
	}
	if a.terminal {
		if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil && w > 0 {
			return max(narrowest, min(w, widest))
		}
	}
	return usualWidth
}

// wrapped writes a paragraph with an indent on every line.
func (a *app) wrapped(indent, s string) { a.hanging(indent, indent, s) }

// hanging writes a paragraph whose first line starts differently.
func (a *app) hanging(first, rest, s string) {
	indent := first
	for line := range strings.SplitSeq(text.WrapSoft(plain.Text(s), max(narrowest/2, a.width()-text.StringWidthWithoutEscSequences(rest))), "\n") {
		fmt.Fprintln(a.stdout, indent+strings.TrimRight(line, " "))
		indent = rest
	}
}

// compared shows two digests in groups of four with a mark under every
// character that differs, so that no eye has to find it.
func (a *app) compared(indent, expected, computed string) {
	a.aligned(indent, "expected", expected, "computed", computed)
}

// aligned is compared for two digests with labels of their own. Where most characters
// differ, marking each says nothing: it is another value.
func (a *app) aligned(indent, first, line, second, other string) {
	const perLine = 32
	width := max(len(first), len(second))
	e, c := strings.ToUpper(line), strings.ToUpper(other)
	if plain.Unlike(e, c) {
		for _, of := range [][2]string{{first, e}, {second, c}} {
			a.hanging(
				fmt.Sprintf("%s%-*s  ", indent, width, of[0]), indent+strings.Repeat(" ", width+2),
				plain.Grouped(of[1]),
			)
		}
		fmt.Fprintln(a.stdout, indent+strings.Repeat(" ", width+2)+a.faint("another value altogether"))
		return
	}
	for at := 0; at < max(len(e), len(c)); at += perLine {
		part := func(s string) string { return s[min(at, len(s)):min(at+perLine, len(s))] }
		pe, pc := part(e), part(c)
		marks := make([]byte, max(len(pe), len(pc)))
		for i := range marks {
			marks[i] = ' '
			if i >= len(pe) || i >= len(pc) || pe[i] != pc[i] {
				marks[i] = '^'
			}
		}
		fmt.Fprintf(
			a.stdout, "%s%-*s  %s\n%s%-*s  %s\n", indent, width, first, plain.Grouped(pe), indent, width, second,
			plain.Grouped(pc),
		)
		if under := strings.TrimRight(plain.Grouped(string(marks)), " "); under != "" {
			fmt.Fprintf(a.stdout, "%s%*s  %s\n", indent, width, "", under)
		}
	}
}

// damageMap draws where a file is damaged: a line of cells, of which those with
// damage in them are filled.
func (a *app) damageMap(indent string, f diagnose.Cause) {
	if len(f.Damage) == 0 || f.Size <= 0 {
		return
	}
	const cells = 64
	line := make([]rune, cells)
	for i := range line {
		line[i] = '·'
		from, to := f.Size*int64(i)/cells, f.Size*int64(i+1)/cells
		for _, r := range f.Damage {
			if r.Offset < to && r.Offset+r.Length > from {
				line[i] = '█'
			}
		}
	}
	fmt.Fprintf(a.stdout, "%s0 %s %s\n", indent, string(line), size(f.Size))
	for i, r := range f.Damage {
		if i == 8 {
			fmt.Fprintf(a.stdout, "%sand %d more\n", indent, len(f.Damage)-i)
			break
		}
		fmt.Fprintf(a.stdout, "%sbytes %d to %d\n", indent, r.Offset, r.Offset+r.Length-1)
	}
}

// size writes a number of bytes for people.
func size(n int64) string {
	const unit = 1024
	if n < unit {
		return fmt.Sprintf("%d B", n)
	}
	value, exponent := float64(n)/unit, 0
	for value >= unit && exponent < 4 {
		value /= unit
		exponent++
	}
	return fmt.Sprintf("%.1f %ciB", value, "KMGTP"[exponent])
}

func moment(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }

func deref[T ~string](s *T) string {
	if s == nil {
		return ""
	}
	return string(*s)
}

// readFile reads a whole file, or standard input for “-”, up to so many bytes.
// what is the thing that a longer file is not.
func (a *app) readFile(name string, most int64, what string) ([]byte, error) {
	in := a.stdin
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		in = f
	} else {
		name = "standard input"
	}
	content, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && int64(len(content)) > most {
		err = fmt.Errorf("%s is longer than %d MiB; that is no %s", plain.Text(name), most>>20, what)
	}
	return content, err
}

// oneMore is what a list is asked for, so that [upTo] knows whether there is more.
func oneMore(limit int) int {
	if limit <= 0 {
		return 0
	}
	return limit + 1
}

// upTo prints a list of up to a limit, and says when there is more: whatever reads it
// is not to take it for all there is.
func upTo[T any](a *app, list []T, limit int, print func(list []T) error) error {
	return firstOf(a, wire.Page[T]{Items: list}, limit, print)
}

// firstOf is [upTo] for a page that may know how many there are in all.
func firstOf[T any](a *app, page wire.Page[T], limit int, print func(list []T) error) error {
	if limit <= 0 || len(page.Items) <= limit {
		return print(page.Items)
	}
	err := print(page.Items[:limit])
	more := "there are more"
	switch {
	case page.Count != nil && page.AtLeast:
		more = fmt.Sprintf("there are at least %d", *page.Count)
	case page.Count != nil:
		more = fmt.Sprintf("there are %d", *page.Count)
	}
	a.note("These are the first %d; %s. --limit 0 lists all.", limit, more)
	return err
}
