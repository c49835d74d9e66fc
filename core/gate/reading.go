package gate

import (
	"fmt"
	"strings"
)

// Reading is something that is measured before and after a run.
type Reading struct {
	Kind string // one of those below
	Of   string // the path, or the command with its arguments
}

// The kinds of readings.
const (
	MemoryAvailable = "memory"        // what programs can still have, cached memory with it
	MemoryFree      = "memory:free"   // what nothing uses
	MemoryCached    = "memory:cached" // what holds files that were read, and can be had when it is wanted
	SwapFree        = "swap"
	LoadAverage     = "load" // processes that run or want to, on average over a minute
	DiskFree        = "disk:"
	FileCount       = "files:"
	CommandNumber   = "command:" // the first number that a command prints
)

// ReadingForms are how readings are written.
const ReadingForms = "memory (available), memory:free, memory:cached, swap, load, disk:PATH (free), files:PATH (how many), or command:COMMAND (the first number that it prints)"

// ParseReading reads what is to be measured.
func ParseReading(text string) (Reading, error) {
	switch text {
	case MemoryAvailable, MemoryFree, MemoryCached, SwapFree, LoadAverage:
		return Reading{Kind: text}, nil
	}
	for _, kind := range []string{DiskFree, FileCount, CommandNumber} {
		if of, ok := strings.CutPrefix(text, kind); ok && strings.TrimSpace(of) != "" {
			if kind == CommandNumber || strings.HasPrefix(of, "/") || strings.HasPrefix(of, "~/") {
				return Reading{kind, of}, nil
			}
			return Reading{}, fmt.Errorf("%q is no whole path; write for instance %s/home", of, kind)
		}
	}
	return Reading{}, fmt.Errorf("%q is no reading; write %s", text, ReadingForms)
}

// Bytes reports whether it is an amount of memory or disk.
func (r Reading) Bytes() bool {
	return r.Kind != LoadAverage && r.Kind != FileCount && r.Kind != CommandNumber
}

// Words name what is measured.
func (r Reading) Words() string {
	switch r.Kind {
	case MemoryAvailable:
		return "memory available"
	case MemoryFree:
		return "memory free"
	case MemoryCached:
		return "memory cached"
	case SwapFree:
		return "swap free"
	case LoadAverage:
		return "load"
	case DiskFree:
		return "disk " + r.Of + " free"
	case FileCount:
		return "files in " + r.Of
	}
	return r.Of
}
