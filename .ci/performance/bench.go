package main

import (
	"cmp"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// results are the figures of benchmarks: by name, then by unit.
type results map[string]map[string]float64

// bench runs the benchmarks of a package that match a name, once in each call of this
// program, and returns what they told. more are further arguments and, with a "=",
// variables.
func (l *lab) bench(pkg, name string, more ...string) (results, error) {
	key := strings.Join(append([]string{pkg, name}, more...), " ")
	if r, known := l.results[key]; known {
		return r, nil
	}
	cmd := exec.Command("go", "test", pkg, "-run", "-", "-timeout", "60m", "-bench", name)
	cmd.Env, cmd.Stderr = os.Environ(), os.Stderr
	for _, word := range more {
		if strings.Contains(word, "=") && !strings.HasPrefix(word, "-") {
			cmd.Env = append(cmd.Env, word)
		} else {
			cmd.Args = append(cmd.Args, word)
		}
	}
	out, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%s: %w\n%s", strings.Join(cmd.Args, " "), err, out)
	}
	r := results{}
	for line := range strings.Lines(string(out)) {
		fields := strings.Fields(line)
		if len(fields) < 4 || !strings.HasPrefix(fields[0], "Benchmark") {
			continue
		}
		units := map[string]float64{}
		for i := 2; i+1 < len(fields); i += 2 {
			if units[fields[i+1]], err = strconv.ParseFloat(fields[i], 64); err != nil {
				return nil, err
			}
		}
		r[processors.ReplaceAllString(strings.TrimPrefix(fields[0], "Benchmark"), "")] = units
	}
	if len(r) == 0 {
		return nil, fmt.Errorf("%s told nothing\n%s", strings.Join(cmd.Args, " "), out)
	}
	l.results[key] = r
	return r, nil
}

var processors = regexp.MustCompile(`-\d+$`)

// value returns one figure, which has to be there.
func (r results) value(name, unit string) (float64, error) {
	v, known := r[name][unit]
	if !known {
		return 0, fmt.Errorf("no benchmark told %s of %q", unit, name)
	}
	return v, nil
}

// spread returns the least and the greatest figure of the benchmarks that a test chooses.
func (r results) spread(unit string, of func(name string) bool) (low, high float64, err error) {
	var all []float64
	for name := range r {
		if v, known := r[name][unit]; known && of(name) {
			all = append(all, v)
		}
	}
	if len(all) == 0 {
		return 0, 0, fmt.Errorf("no benchmark told %s", unit)
	}
	return slices.Min(all), slices.Max(all), nil
}

// ofBench is a measure that reads one benchmark: format gets its figures of the units.
func ofBench(pkg, pattern, name, format string, units []string, more ...string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		r, err := l.bench(pkg, pattern, more...)
		if err != nil {
			return "", err
		}
		var figures []any
		for _, unit := range units {
			unit, scale, _ := strings.Cut(unit, "/÷")
			v, err := r.value(name, unit)
			if err != nil {
				return "", err
			}
			divisor, err := strconv.ParseFloat(cmp.Or(scale, "1"), 64)
			if err != nil {
				return "", err
			}
			figures = append(figures, v/divisor)
		}
		return fmt.Sprintf(format, figures...), nil
	}
}

// ratio is a measure of one benchmark above its floor in the same run.
func ratio(pkg, pattern, name, floor string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		r, err := l.bench(pkg, pattern)
		if err != nil {
			return "", err
		}
		above, err := r.value(name, "ns/op")
		if err != nil {
			return "", err
		}
		below, err := r.value(floor, "ns/op")
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%.1f times (%.3g ms against %.3g ms)", above/below, above/1e6, below/1e6), nil
	}
}
