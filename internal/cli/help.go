package cli

import (
	"bytes"
	"io"
	"regexp"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/spf13/cobra"
)

// helpWithin has commands write their help within the columns there are.
func helpWithin(root *cobra.Command, width func() int) {
	usual := root.HelpFunc()
	root.SetHelpFunc(func(cmd *cobra.Command, args []string) {
		out := cmd.OutOrStdout()
		var help bytes.Buffer
		cmd.SetOut(&help)
		usual(cmd, args)
		cmd.SetOut(out)
		io.WriteString(out, narrowed(help.String(), width())) //nolint:errcheck // nobody is there to be told
	})
}

var (
	// described is a line with a flag or a command, and what it does.
	described = regexp.MustCompile(`^(\s+\S.*?\s{2,}|  [a-z-]+ )(\S.*)$`)
	// heading is a line above others.
	heading = regexp.MustCompile(`^[A-Z][a-z]+( [A-Z][a-z]+)?:$`)
	// copied is a line to be copied, or the rest of one.
	copied = regexp.MustCompile(`^(  endeixis |    --)`)
)

// narrowed breaks the lines of a help text that are too wide. Paragraphs are filled again;
// commands to be copied stay whole.
func narrowed(help string, width int) string {
	var out strings.Builder
	var paragraph []string
	flush := func() {
		wide := false
		for _, line := range paragraph {
			wide = wide || text.StringWidth(line) > width
		}
		if wide {
			paragraph = strings.Split(text.WrapSoft(strings.Join(paragraph, " "), width), "\n")
		}
		for _, line := range paragraph {
			out.WriteString(strings.TrimRight(line, " ") + "\n")
		}
		paragraph = nil
	}
	for line := range strings.Lines(help) {
		line = strings.TrimSuffix(line, "\n")
		if line != "" && line[0] != ' ' && !heading.MatchString(line) {
			paragraph = append(paragraph, line)
			continue
		}
		flush()
		parts := described.FindStringSubmatch(line)
		switch {
		case text.StringWidth(line) <= width || copied.MatchString(line), parts == nil:
			out.WriteString(line + "\n")
		default:
			first, indent := parts[1], text.StringWidth(parts[1])
			if indent > width/2 { // below it
				out.WriteString(strings.TrimRight(first, " ") + "\n")
				first, indent = "        ", 8
			}
			for i, piece := range strings.Split(text.WrapSoft(parts[2], max(16, width-indent)), "\n") {
				if i > 0 {
					first = strings.Repeat(" ", indent)
				}
				out.WriteString(first + strings.TrimRight(piece, " ") + "\n")
			}
		}
	}
	flush()
	return out.String()
}
