// Command performance measures what docs/performance.md tells, and writes its table
// anew. Each row has one measure, which runs beside its floor on the same machine.
//
//	go run ./.ci/performance              all rows, about half an hour
//	go run ./.ci/performance -only list   rows whose name or way matches; the others stay
//	go run ./.ci/performance -large       also a journal of ten million runs (8 GB)
//
// Run it as root on a quiet machine: without root the machine's cache cannot be emptied,
// and rows that need that are left as they are.
package main

import (
	"bufio"
	"bytes"
	"errors"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
)

const document = "docs/performance.md"

// errNotHere says that this machine, or this call, cannot measure a row.
var errNotHere = errors.New("not measured here")

// row is a line of the table. Its measure returns what was seen.
type row struct {
	what, wanted, how string
	measure           func(*lab) (string, error)
}

// lab is where measures are taken: a folder of its own, with the program and an empty
// one built in the same way.
type lab struct {
	folder, program, empty string
	large                  bool
	results                map[string]results // of benchmarks that ran
	homes                  map[string]string
}

func main() {
	log.SetFlags(0)
	only := flag.String("only", "", "measure rows that match this regular expression")
	large := flag.Bool("large", false, "measure a journal of ten million runs, too")
	folder := flag.String("folder", "", "keep homes and journals in this folder for the next time")
	flag.Parse()
	if err := run(*only, *folder, *large); err != nil {
		log.Fatal("performance: ", err)
	}
}

func run(only, folder string, large bool) error {
	chosen, err := regexp.Compile(only)
	if err != nil {
		return err
	}
	old, err := os.ReadFile(document)
	if err != nil {
		return fmt.Errorf("run it in the root of the repository: %w", err)
	}
	l, done, err := newLab(folder, large)
	if err != nil {
		return err
	}
	defer done()
	rows, before := table(), seen(old)
	values := map[string]string{}
	for _, r := range rows {
		values[r.what] = before[r.what]
		if !chosen.MatchString(r.what) && !chosen.MatchString(r.how) {
			continue
		}
		switch value, err := r.measure(l); {
		case errors.Is(err, errNotHere):
			log.Printf("%s: %v", r.what, err)
		case err != nil:
			return fmt.Errorf("%s: %w", r.what, err)
		default:
			values[r.what] = value
			log.Printf("%s: %s", r.what, value)
		}
	}
	return os.WriteFile(document, replaceTable(old, rows, values), 0o644)
}

func newLab(folder string, large bool) (*lab, func(), error) {
	l, done := &lab{folder: folder, large: large, results: map[string]results{}, homes: map[string]string{}}, func() {}
	if folder == "" {
		made, err := os.MkdirTemp("", "timegate-performance-")
		if err != nil {
			return nil, nil, err
		}
		l.folder, done = made, func() { os.RemoveAll(made) }
	} else if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, nil, err
	}
	l.program, l.empty = filepath.Join(l.folder, "timegate"), filepath.Join(l.folder, "empty")
	source := filepath.Join(l.folder, "empty.go")
	if err := os.WriteFile(source, []byte("package main\n\nfunc main() {}\n"), 0o600); err != nil {
		return nil, nil, err
	}
	for _, build := range [][]string{{"-o", l.program, "."}, {"-o", l.empty, source}} {
		cmd := exec.Command("go", append([]string{"build", "-trimpath", "-ldflags=-s -w"}, build...)...)
		cmd.Env, cmd.Stderr = append(os.Environ(), "CGO_ENABLED=0"), os.Stderr
		if err := cmd.Run(); err != nil {
			return nil, nil, err
		}
	}
	return l, done, nil
}

// seen returns what the table of a document tells, by the name of the row.
func seen(document []byte) map[string]string {
	values := map[string]string{}
	for lines := bufio.NewScanner(bytes.NewReader(document)); lines.Scan(); {
		if cells := strings.Split(lines.Text(), " | "); len(cells) == 4 {
			values[strings.TrimPrefix(cells[0], "| ")] = cells[2]
		}
	}
	return values
}

// replaceTable puts rows in the place of the document's table; a row of which nothing was
// ever seen is left out.
func replaceTable(document []byte, rows []row, values map[string]string) []byte {
	var out bytes.Buffer
	written := false
	for line := range bytes.Lines(document) {
		if !bytes.HasPrefix(line, []byte("|")) {
			out.Write(line)
			continue
		}
		if written {
			continue
		}
		written = true
		out.WriteString("| what | wanted | seen | how |\n|---|---|---|---|\n")
		for _, r := range rows {
			if value := values[r.what]; value != "" {
				fmt.Fprintf(&out, "| %s | %s | %s | %s |\n", r.what, r.wanted, value, r.how)
			}
		}
	}
	return out.Bytes()
}
