package cli

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"path/filepath"
	"runtime"
	"strings"
	"sync"

	"github.com/urfave/cli/v3"

	"timegate/core/gate"
	"timegate/core/rehearsal"
	"timegate/home"
)

// rehearseFolder plays all day files of a folder, several at once.
func (a *app) rehearseFolder(ctx context.Context, c *cli.Command, dir string) error {
	paths, err := filepath.Glob(filepath.Join(dir, "*.toml"))
	if err != nil {
		return err
	}
	if len(paths) == 0 {
		return usageError("there is no day file (*.toml) in %s", dir)
	}
	type outcome struct {
		r   *rehearsed
		err error
	}
	results := make([]outcome, len(paths))
	next := make(chan int)
	var workers sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), len(paths)) {
		workers.Go(func() {
			for i := range next {
				data, err := home.ReadPlain(paths[i], gate.MaxSize)
				p := dayPlay{}
				if err == nil {
					p, err = a.dayPlay(c, paths[i], data)
				}
				if err == nil {
					results[i].r, err = a.playDay(ctx, p)
				}
				results[i].err = err
			}
		})
	}
	for i := range paths {
		next <- i
	}
	close(next)
	workers.Wait()
	var rows [][]string
	var list []*rehearsed
	bad := 0
	for i, o := range results {
		if o.err != nil {
			return fmt.Errorf("%s: %w", paths[i], o.err)
		}
		name, what := filepath.Base(paths[i]), a.out.good("ok")
		text := ""
		switch {
		case o.r.day == nil:
			what, text = a.out.bad("wrong"), o.r.found[0].Error()
			bad++
		case len(o.r.failures) > 0:
			what = a.out.bad("failed")
			var lines []string
			for _, f := range o.r.failures {
				lines = append(lines, f.Expected+", but "+f.Actual)
			}
			text = strings.Join(lines, "; ")
			bad++
		default:
			text = fmt.Sprintf("%s as expected; %s", plural(len(o.r.day.Expect), "thing"), rehearsedSummary(o.r))
		}
		rows = append(rows, []string{name, what, text})
		list = append(list, o.r)
	}
	if a.json {
		err = a.out.printJSON(folderJSON(list))
	} else {
		a.out.table([]string{"DAY", "RESULT", "WHAT"}, rows)
	}
	if err != nil {
		return err
	}
	if file := c.String("junit"); file != "" {
		if err := writeFile(file, func(w io.Writer) error { return writeJUnit(w, list) }); err != nil {
			return err
		}
		fmt.Fprintf(a.err, "%s %s\n", a.err.good("written"), file)
	}
	if bad > 0 {
		return &exitError{exitFound, fmt.Errorf("%d of %s not as expected", bad, plural(len(list), "day"))}
	}
	return nil
}

// folderResult is a day of a folder in JSON.
type folderResult struct {
	File     string              `json:"file"`
	OK       bool                `json:"ok"`
	Expected int                 `json:"expected"`
	Failures []rehearsal.Failure `json:"failures"`
	Findings gate.Findings       `json:"findings"`
}

func folderJSON(list []*rehearsed) []folderResult {
	var out []folderResult
	for _, r := range list {
		x := folderResult{File: r.file, OK: r.day != nil && len(r.failures) == 0, Failures: append([]rehearsal.Failure{}, r.failures...), Findings: append(gate.Findings{}, r.found...)}
		if r.day != nil {
			x.Expected = len(r.day.Expect)
		}
		out = append(out, x)
	}
	return out
}

// The parts of a JUnit report, as test servers read them.
type junitSuites struct {
	XMLName xml.Name     `xml:"testsuites"`
	Suites  []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Time     string      `xml:"time,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string        `xml:"name,attr"`
	Class   string        `xml:"classname,attr"`
	Failure *junitMessage `xml:"failure,omitempty"`
	Error   *junitMessage `xml:"error,omitempty"`
}

type junitMessage struct {
	Message string `xml:"message,attr"`
}

// writeJUnit writes a report: a suite for each day, a case for each expectation.
func writeJUnit(w io.Writer, list []*rehearsed) error {
	var all junitSuites
	for _, r := range list {
		name := strings.TrimSuffix(filepath.Base(r.file), ".toml")
		s := junitSuite{Name: name, Time: fmt.Sprintf("%.3f", r.took.Seconds())}
		if r.day == nil {
			s.Errors = 1
			s.Cases = append(s.Cases, junitCase{Name: "the day file", Class: name, Error: &junitMessage{r.found[0].Error()}})
		} else {
			for _, x := range r.day.Expect {
				one := junitCase{Name: x.Text, Class: name}
				for _, f := range r.failures {
					if f.Expected == x.Text {
						one.Failure = &junitMessage{f.Actual}
					}
				}
				s.Cases = append(s.Cases, one)
			}
			s.Failures = len(r.failures)
		}
		s.Tests = len(s.Cases)
		all.Suites = append(all.Suites, s)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(all); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
