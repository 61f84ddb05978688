package client

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"strings"
)

// maxEvent bounds one event: an import tells of all its keys in one.
const maxEvent = 256 << 20

// events reads a stream of server-sent events, and has each told with its data, up to
// one that is the last. usual is what an event is called that has no name. A problem
// becomes an [*Error].
func events(in io.Reader, usual string, tell func(event, id, data string) (last bool, err error)) error {
	lines := bufio.NewReaderSize(in, 64<<10)
	event, id := usual, ""
	for {
		line, err := readLine(lines)
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		field, value, _ := strings.Cut(line, ":")
		value = strings.TrimPrefix(value, " ")
		switch field {
		case "":
			event = usual
		case "id":
			id = value
		case "event":
			event = value
		case "data":
			if event == "problem" {
				problem := &Error{}
				if err := json.Unmarshal([]byte(value), &problem.Problem); err != nil {
					return err
				}
				return problem
			}
			if last, err := tell(event, id, value); last || err != nil {
				return err
			}
		}
	}
}

// readLine reads up to the end of a line, which it cuts off.
func readLine(r *bufio.Reader) (string, error) {
	var b strings.Builder
	for {
		part, err := r.ReadSlice('\n')
		b.Write(part)
		switch {
		case b.Len() > maxEvent:
			return "", errors.New("an event of the service is longer than any should be")
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil && (b.Len() == 0 || !errors.Is(err, io.EOF)):
			return "", err
		}
		return strings.TrimRight(b.String(), "\r\n"), nil
	}
}
