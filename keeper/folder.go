package keeper

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/ical"
	"timegate/inspect"
	"timegate/workstation/zones"
)

// File is a gate file as it was read.
type File struct {
	Name     string
	Path     string
	Text     string
	Version  string     // identifies Text
	Gate     *gate.Gate // nil where a finding is an error
	Findings gate.Findings
}

// suffix is what a gate file's name ends in.
const suffix = ".toml"

// ReadFolder reads all gate files of a home, by name. A folder that is not
// there has none.
func ReadFolder(h Home, env phrase.Env) ([]File, error) {
	entries, err := os.ReadDir(h.Gates)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, homeError(h.Gates, err)
	}
	var names []string
	for _, e := range entries {
		// Names that begin with a dot are editors' own.
		if name, ok := strings.CutSuffix(e.Name(), suffix); ok && !strings.HasPrefix(name, ".") {
			names = append(names, name)
		}
	}
	out := make([]File, len(names))
	var next atomic.Int64
	var readers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		readers.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(names)); i = next.Add(1) - 1 {
				out[i] = ReadFile(h, names[i], env)
			}
		})
	}
	readers.Wait()
	sortFiles(out)
	checkLinks(out)
	return out, nil
}

func sortFiles(files []File) {
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
}

// checkLinks adds what is wrong among the gates. A gate in a circle is not
// used.
func checkLinks(files []File) {
	byName := map[string]*File{}
	var gates []*gate.Gate
	for i := range files {
		if f := &files[i]; f.Gate != nil {
			byName[f.Name] = f
			gates = append(gates, f.Gate)
		}
	}
	for _, found := range gate.Links(gates) {
		f := byName[found.Gate]
		found.File = f.Path
		f.Findings = append(f.Findings, found)
		if found.Severity == gate.SevereError {
			f.Gate = nil
		}
	}
}

// ReadFile reads one gate's file.
func ReadFile(h Home, name string, env phrase.Env) File {
	f := File{Name: name, Path: h.GateFile(name)}
	data, err := readBounded(f.Path)
	if err != nil {
		f.Findings = gate.Findings{{Gate: name, File: f.Path, Severity: gate.SevereError, Code: "unreadable",
			Message: "the file cannot be read: " + err.Error(), Remedy: "check what it is, and its owner and mode"}}
		return f
	}
	f = fileOf(h, name, data, env)
	if h.Scope == gate.System {
		for _, found := range inspect.WritableByOthers(f.Path) {
			found.Gate, found.File = name, f.Path
			f.Findings, f.Gate = append(f.Findings, found), nil
		}
	}
	return f
}

// fileOf reads a gate's text.
func fileOf(h Home, name string, data []byte, env phrase.Env) File {
	f := File{Name: name, Path: h.GateFile(name), Text: string(data)}
	sum := sha256.Sum256(data)
	f.Version = hex.EncodeToString(sum[:12])
	f.Gate, f.Findings = gate.Read(name, f.Path, data, gate.Options{Scope: h.Scope, Env: env})
	return f
}

// readBounded reads a file up to just over the size that is accepted. It
// waits for no writer of a pipe.
func readBounded(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err == nil {
		switch {
		case info.IsDir():
			return nil, errors.New("it is a folder")
		case !info.Mode().IsRegular():
			return nil, errors.New("it is not a plain file")
		}
		var f *os.File
		if f, err = os.Open(path); err == nil {
			defer f.Close()
			return io.ReadAll(io.LimitReader(f, gate.MaxSize+1))
		}
	}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return nil, pe.Err
	}
	return nil, err
}

// Env returns what phrases need from outside, in a zone and on a host.
func Env(zone *calendar.Zone, host string) phrase.Env {
	return phrase.Env{Zone: zone, Host: host, FindZone: zones.Find, DaysIn: DaysIn}
}

// DaysIn reads a file of days: one date or range of dates a line, what follows
// a # is a comment; or a calendar file of events that last whole days.
func DaysIn(path string) ([]calendar.Item, error) {
	data, err := readBounded(expandHome(path))
	if err != nil {
		return nil, fmt.Errorf("the days in %s cannot be read: %w", path, err)
	}
	if bytes.HasPrefix(bytes.TrimSpace(data), []byte("BEGIN:VCALENDAR")) {
		days, err := ical.Days(bytes.NewReader(data))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		return days, nil
	}
	var out []calendar.Item
	for i, line := range strings.Split(string(data), "\n") {
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		from, to, isRange := strings.Cut(line, "..")
		it := calendar.Item{Dates: true}
		if it.From, err = calendar.ParseDay(strings.TrimSpace(from)); err == nil {
			it.To = it.From
			if isRange {
				it.To, err = calendar.ParseDay(strings.TrimSpace(to))
			}
		}
		if err == nil && it.To < it.From {
			err = errors.New("the range ends before it begins")
		}
		if err != nil {
			return nil, fmt.Errorf("%s:%d: %w", path, i+1, err)
		}
		out = append(out, it)
	}
	return out, nil
}

// expandHome puts the keeper's home folder in the place of a leading ~.
func expandHome(path string) string { return self().expand(path) }
