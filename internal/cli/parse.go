package cli

import (
	"bufio"
	"strconv"
	"strings"
)

// number reads a number from the command line.
func number(text, what string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, usage("%q is not %s", text, what)
	}
	return n, nil
}

// firstLine reads the first line of a text.
func firstLine(text string) string {
	line, _ := bufio.NewReader(strings.NewReader(text)).ReadString('\n')
	return strings.TrimSpace(line)
}
