// Command collect writes the licences of all modules that the programs are made of, and that of
// Go itself, to standard output.
package main

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
)

// programs are what is shipped, each with the environment that it is built in.
var programs = []struct {
	path string
	env  []string
}{
	{"./cmd/endeixis", nil},
	{"./cmd/endeixisd", nil},
	{"./cmd/endeixis-world", nil},
	{"./cmd/endeixis-core", []string{"GOOS=js", "GOARCH=wasm", "CGO_ENABLED=0"}},
}

// A module is one that a program is made of.
type module struct{ Path, Version, Dir string }

func main() {
	if err := collect(os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "collect:", err)
		os.Exit(1)
	}
}

func collect(out io.Writer) error {
	all := map[string]module{}
	for _, p := range programs {
		found, err := modules(p.path, p.env)
		if err != nil {
			return fmt.Errorf("%s: %w", p.path, err)
		}
		for _, m := range found {
			all[m.Path] = m
		}
	}
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return err
	}
	list := []module{{"Go", runtime.Version(), strings.TrimSpace(string(root))}}
	for _, m := range all {
		list = append(list, m)
	}
	slices.SortFunc(list, func(a, b module) int { return strings.Compare(a.Path, b.Path) })
	w := bufio.NewWriter(out)
	for _, m := range list {
		texts, err := licencesIn(m.Dir)
		if err != nil {
			return fmt.Errorf("%s: %w", m.Path, err)
		}
		fmt.Fprintf(w, "== %s %s ==\n\n%s\n", m.Path, m.Version, strings.Join(texts, "\n"))
	}
	return w.Flush()
}

// modules returns the modules that a program is made of, other than its own.
func modules(program string, env []string) ([]module, error) {
	list := exec.Command("go", "list", "-deps", "-json=Module", program)
	list.Env = append(os.Environ(), env...)
	list.Stderr = os.Stderr
	text, err := list.Output()
	if err != nil {
		return nil, err
	}
	var out []module
	for d := json.NewDecoder(strings.NewReader(string(text))); ; {
		var p struct {
			Module *struct {
				module
				Main    bool
				Replace *module
			}
		}
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return out, nil
		} else if err != nil {
			return nil, err
		}
		switch {
		case p.Module == nil || p.Module.Main:
		case p.Module.Replace != nil:
			out = append(out, *p.Module.Replace)
		default:
			out = append(out, p.Module.module)
		}
	}
}

// name is that of a file with a licence, or with what has to be said beside one.
var name = regexp.MustCompile(`(?i)^(licen[sc]e|copying|notice|patents|authors)(\.(md|txt|golang))?$`)

// licencesIn returns the licences in the folder of a module. A module without any is an error:
// it cannot be shipped.
func licencesIn(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range entries {
		if e.IsDir() || !name.MatchString(e.Name()) {
			continue
		}
		text, err := os.ReadFile(filepath.Join(dir, e.Name()))
		if err != nil {
			return nil, err
		}
		out = append(out, strings.TrimSpace(string(text))+"\n")
	}
	if len(out) == 0 {
		return nil, errors.New("it has no licence, so that it cannot be shipped")
	}
	return out, nil
}
