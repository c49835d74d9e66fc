// Package inspect finds what is wrong or unwise about a gate beyond its text:
// its target, and its moments.
package inspect

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"timegate/core/calendar"
	"timegate/core/gate"
)

// Target finds out whether what an order would start can be started. path is
// the program's whole path, folder its working folder.
func Target(path, folder string) []gate.Finding {
	var out []gate.Finding
	add := func(code, message, remedy string) {
		out = append(out, gate.Finding{Severity: gate.SevereError, Code: code, Message: message, Remedy: remedy})
	}
	info, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist) && isLink(path):
		add("target-missing", fmt.Sprintf("the program %s is a link that leads nowhere", path), "mend the link, or change \"run\"")
	case errors.Is(err, fs.ErrNotExist):
		add("target-missing", fmt.Sprintf("the program %s does not exist", path), "check the path in \"run\"")
	case err != nil:
		add("target-missing", fmt.Sprintf("the program %s cannot be reached: %v", path, cause(err)), "check the folders above it")
	case info.IsDir():
		add("target-not-executable", fmt.Sprintf("the program %s is a folder", path), "name the program in it")
	case info.Mode()&0o111 == 0:
		add("target-not-executable", fmt.Sprintf("the program %s is not marked as executable", path), "chmod +x "+path)
	default:
		out = append(out, content(path)...)
	}
	if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		add("folder-missing", fmt.Sprintf("the working folder %s does not exist", folder), "make it, or change \"folder\"")
	}
	return out
}

func isLink(path string) bool {
	info, err := os.Lstat(path)
	return err == nil && info.Mode()&fs.ModeSymlink != 0
}

func cause(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// interpreterOf returns the program that a script's first line names, or "".
func interpreterOf(path string) string {
	f, err := os.Open(path)
	if err != nil {
		return ""
	}
	defer f.Close()
	line, _ := bufio.NewReaderSize(f, 256).ReadSlice('\n')
	rest, ok := bytes.CutPrefix(line, []byte("#!"))
	if !ok {
		return ""
	}
	fields := strings.Fields(string(rest))
	if len(fields) == 0 || !filepath.IsAbs(fields[0]) {
		return ""
	}
	return fields[0]
}

// Moments finds openings that have nothing more to come.
func Moments(g *gate.Gate, now calendar.Instant) []gate.Finding {
	var out []gate.Finding
	for _, o := range g.Opens {
		if o.Plan.Rule == nil || !o.Enabled {
			continue
		}
		if _, _, ok := o.Plan.Next(now); !ok {
			out = append(out, gate.Finding{Severity: gate.Warning, Code: "all-past",
				Message: fmt.Sprintf("opening %s (%s) lies in the past: it will not come again", o.Name, o.When),
				Remedy:  "give it new dates, or take it out"})
		}
	}
	if len(g.Opens) == 0 {
		out = append(out, gate.Finding{Severity: gate.Note, Code: "no-opening",
			Message: "the gate has no opening: it starts only by hand", Remedy: "add one to \"opens\""})
	}
	return out
}
