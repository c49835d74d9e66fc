package cli

import (
	"context"
	"fmt"
	"io/fs"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/google/shlex"

	"timegate/workstation/here"
	"timegate/workstation/rights"
)

// measureForms are what can be measured before and after a try.
const measureForms = "memory, disk:PATH, load, files:PATH, or command:COMMAND, whose first number is taken"

// measured is one reading.
type measured struct {
	value float64
	bytes bool // it is an amount of memory or disk
}

// measure takes a reading.
func measure(ctx context.Context, name string) (measured, error) {
	kind, about, _ := strings.Cut(name, ":")
	switch {
	case name == "memory", kind == "disk" && strings.HasPrefix(about, "/"):
		n, err := here.Reading(name)
		return measured{float64(n), true}, err
	case name == "load":
		n, err := here.Load()
		return measured{value: n}, err
	case kind == "files" && about != "":
		return countFiles(about)
	case kind == "command" && about != "":
		argv, err := shlex.Split(about)
		if err != nil || len(argv) == 0 {
			return measured{}, fmt.Errorf("%q is no command", about)
		}
		out, err := commandOutput(ctx, argv)
		if err != nil {
			return measured{}, fmt.Errorf("the command %s: %w", argv[0], err)
		}
		return firstNumber(string(out))
	}
	return measured{}, fmt.Errorf("%q cannot be measured; write %s", name, measureForms)
}

// commandOutput runs a command with the caller's environment and returns what it prints.
func commandOutput(ctx context.Context, argv []string) ([]byte, error) {
	path, err := exec.LookPath(argv[0])
	if err == nil {
		path, err = filepath.Abs(path)
	}
	if err != nil {
		return nil, err
	}
	dir, err := os.Getwd()
	if err != nil {
		return nil, err
	}
	const most = 1 << 20
	return rights.Run(ctx, rights.Call{Program: path, Args: argv[1:], Env: os.Environ(), Dir: dir, Most: most})
}

// countFiles counts the plain files below a folder.
func countFiles(dir string) (measured, error) {
	n := 0
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			n++
		}
		if path == dir {
			return err
		}
		return nil // what cannot be read is not counted
	})
	return measured{value: float64(n)}, err
}

var number = regexp.MustCompile(`[-+]?\d+(\.\d+)?`)

func firstNumber(text string) (measured, error) {
	word := number.FindString(text)
	value, err := strconv.ParseFloat(word, 64)
	if err != nil {
		return measured{}, fmt.Errorf("there is no number in %.40q", strings.TrimSpace(text))
	}
	return measured{value: value}, nil
}

// measureAll takes readings of the same names.
func measureAll(ctx context.Context, names []string) ([]measured, error) {
	var out []measured
	for _, name := range names {
		m, err := measure(ctx, name)
		if err != nil {
			return nil, fmt.Errorf("--measure %s: %w", name, err)
		}
		out = append(out, m)
	}
	return out, nil
}

// text writes a reading.
func (m measured) text() string {
	if m.bytes {
		return humanize.Bytes(uint64(math.Abs(m.value)))
	}
	return strconv.FormatFloat(m.value, 'f', -1, 64)
}

// tellMeasured takes the readings of before once more, and tells both.
func (a *app) tellMeasured(ctx context.Context, names []string, before []measured) {
	if after, err := measureAll(context.WithoutCancel(ctx), names); err == nil {
		a.printMeasured(names, before, after)
	}
}

// printMeasured tells readings before and after, with the difference.
func (a *app) printMeasured(names []string, before, after []measured) {
	for i, name := range names {
		change := measured{after[i].value - before[i].value, after[i].bytes}
		sign, free := "+", ""
		if change.value < 0 {
			sign = "-"
		}
		if change.bytes {
			free = " free"
		}
		change.value = math.Abs(math.Round(change.value*1000) / 1000)
		fmt.Fprintf(a.err, "%s: %s%s before, %s after (%s%s)\n", name, before[i].text(), free, after[i].text(), sign, change.text())
	}
}
