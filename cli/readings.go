package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"timegate/chart"
	"timegate/core/gate"
	"timegate/journal"
)

// measuredRuns returns what was measured before and after runs, the oldest first, by the
// names of the readings. Of a run both must be known.
func measuredRuns(entries []journal.Entry) map[string][]chart.MeasuredRun {
	out := map[string][]chart.MeasuredRun{}
	for i := len(entries) - 1; i >= 0; i-- {
		e := &entries[i]
		for name, pair := range readingsOf(e) {
			if pair.Change != nil && e.Started != 0 {
				out[name] = append(out[name], chart.MeasuredRun{At: e.Started, Before: *pair.Before, After: *pair.After})
			}
		}
	}
	return out
}

// plain are lines of the history without what goes on.
func plain(list []recorded) []journal.Entry {
	out := make([]journal.Entry, len(list))
	for i := range list {
		out[i] = list[i].Entry
	}
	return out
}

// readingsChart is a picture of a reading of a gate.
func (a *app) readingsChart(name, reading string, runs []chart.MeasuredRun) (*chart.Readings, error) {
	r, err := gate.ParseReading(reading)
	if err != nil {
		return nil, err
	}
	d := &chart.Readings{Title: name + ": " + r.Words() + ", before and after its runs", Zone: a.zone, Runs: runs, Text: func(v, step float64) string { return finely(r, v, step) },
		Below: plural(len(runs), "run")}
	if len(runs) > 0 {
		d.From, d.To = runs[0].At, runs[len(runs)-1].At
		by := (d.To - d.From) / 50 // room at both ends
		d.From, d.To = d.From-by, d.To+by
	}
	return d, nil
}

// drawReading draws what was measured before and after the runs of a gate.
func (a *app) drawReading(c *cli.Command, f journal.Filter) error {
	entries, err := a.entries(f)
	if err != nil {
		return err
	}
	runs, reading := measuredRuns(plain(entries)), c.String("reading")
	if len(runs[reading]) == 0 {
		known := slices.Sorted(maps.Keys(runs))
		if len(known) == 0 {
			return usageError("nothing was measured with the runs of %s; to have it: timegate change %s --measure memory", f.Gate, f.Gate)
		}
		return usageError("%s was not measured with the runs of %s; that was %s", reading, f.Gate, strings.Join(known, ", "))
	}
	d, err := a.readingsChart(f.Gate, reading, runs[reading])
	if err != nil {
		return err
	}
	_, err = a.pictures(c, func(w io.Writer, format chart.Format) error { return chart.DrawReadings(w, d, format) })
	return err
}

// blocks are the heights of a line of small bars; without them, digits.
var blocks = []string{"▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}

// printReadings tells each reading of a gate over its last runs.
func (a *app) printReadings(name string) error {
	const drawn = 24
	entries, err := a.entries(journal.Filter{Gate: name, OnlyRuns: true, Limit: drawn})
	if err != nil {
		return err
	}
	runs := measuredRuns(plain(entries))
	for _, reading := range slices.Sorted(maps.Keys(runs)) {
		r, err := gate.ParseReading(reading)
		if err != nil {
			continue // of a former name
		}
		list := runs[reading]
		last := list[len(list)-1]
		low, high := last.Before, last.Before
		for _, m := range list {
			low, high = min(low, m.Before), max(high, m.Before)
		}
		text := changeText(r, last.Before, last.After)
		if len(list) > 1 && high > low {
			text += fmt.Sprintf("\nbefore the last %s %s to %s: %s", plural(len(list), "run"), finely(r, low, high-low), finely(r, high, high-low), a.bars(list, low, high))
		}
		a.line("reading", text)
	}
	return nil
}

// bars draws the readings before runs as small bars.
func (a *app) bars(list []chart.MeasuredRun, low, high float64) string {
	var b strings.Builder
	for _, m := range list {
		height := int((m.Before - low) / (high - low) * float64(len(blocks)-1))
		if a.out.ascii {
			fmt.Fprint(&b, height+1)
		} else {
			b.WriteString(blocks[height])
		}
	}
	return b.String()
}

// ofMachine are the readings that say how the machine does.
var ofMachine = []string{gate.MemoryAvailable, gate.MemoryCached, gate.SwapFree, gate.LoadAverage, gate.DiskFree + "/"}

// machineReadings takes them; what is not known here is left out.
func machineReadings(ctx context.Context) map[string]float64 {
	out := map[string]float64{}
	for _, name := range ofMachine {
		if m, err := measure(ctx, name); err == nil {
			out[name] = m.value
		}
	}
	return out
}

// readingsNow says how the machine does.
func readingsNow(values map[string]float64) string {
	var list []string
	for _, name := range ofMachine {
		value, known := values[name]
		r, err := gate.ParseReading(name)
		if !known || err != nil || name == gate.SwapFree && value == 0 {
			continue
		}
		list = append(list, r.Words()+" "+signed(r, value))
	}
	return strings.Join(list, ", ")
}
