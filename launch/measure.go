package launch

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"

	"github.com/google/shlex"

	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation/here"
	"timegate/workstation/rights"
)

// Measure takes a reading with this process's rights. A command gets the surroundings given;
// of a folder that cannot be read in whole, what can be is counted.
func Measure(ctx context.Context, name string, env []string, folder string) (float64, error) {
	r, err := gate.ParseReading(name)
	if err != nil {
		return 0, err
	}
	of := home.Expand(r.Of, home.Folder())
	switch r.Kind {
	case gate.LoadAverage:
		return here.Load()
	case gate.FileCount:
		return countFiles(ctx, of)
	case gate.CommandNumber:
		argv, err := CommandOf(r, home.Folder())
		if err != nil {
			return 0, err
		}
		out, err := outputOf(ctx, argv, env, folder)
		if err != nil {
			return 0, fmt.Errorf("the command %s: %w", argv[0], err)
		}
		return firstNumber(string(out))
	case gate.DiskFree:
		name = gate.DiskFree + of
	}
	n, err := here.Reading(name)
	return float64(n), err
}

// CommandOf returns the command of a reading, as its program and arguments. A path may begin
// with the home folder given, as ~.
func CommandOf(r gate.Reading, folder string) ([]string, error) {
	argv, err := shlex.Split(r.Of)
	if err != nil || len(argv) == 0 {
		return nil, fmt.Errorf("%q is no command", r.Of)
	}
	argv[0] = home.Expand(argv[0], folder)
	return argv, nil
}

// outputOf runs a command and returns what it prints.
func outputOf(ctx context.Context, argv, env []string, folder string) ([]byte, error) {
	path := argv[0]
	if !strings.Contains(path, "/") {
		found := false
		for _, dir := range filepath.SplitList(valueIn(env, "PATH")) {
			if path = filepath.Join(dir, argv[0]); filepath.IsAbs(path) && isProgram(path) {
				found = true
				break
			}
		}
		if !found {
			return nil, fmt.Errorf("%w: no %s in PATH", exec.ErrNotFound, argv[0])
		}
	}
	path, err := filepath.Abs(path)
	if err != nil {
		return nil, err
	}
	const most = 1 << 20
	return rights.Run(ctx, rights.Call{Program: path, Args: argv[1:], Env: env, Dir: folder, Most: most})
}

// isProgram reports whether a path is a plain file that somebody may execute.
func isProgram(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0
}

// valueIn returns a variable's value in an environment.
func valueIn(env []string, name string) string {
	for _, v := range env {
		if value, ok := strings.CutPrefix(v, name+"="); ok {
			return value
		}
	}
	return ""
}

// countFiles counts the plain files below a folder.
func countFiles(ctx context.Context, dir string) (float64, error) {
	n := 0
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			n++
		}
		if path == dir && err != nil {
			return err
		}
		return ctx.Err() // what cannot be read is not counted
	})
	return float64(n), err
}

// number is a number as programs print them: 42, -3.5, 5.27e+09.
var number = regexp.MustCompile(`[-+]?(\d+(\.\d*)?|\.\d+)([eE][-+]?\d+)?`)

func firstNumber(text string) (float64, error) {
	value, err := strconv.ParseFloat(number.FindString(text), 64)
	if err != nil {
		return 0, fmt.Errorf("there is no number in %.40q", strings.TrimSpace(text))
	}
	return value, nil
}
