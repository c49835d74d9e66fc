package cli

import (
	"context"
	"fmt"
	"math"
	"os"
	"strconv"
	"timegate/core/gate"
	"timegate/launch"

	"github.com/dustin/go-humanize"
)

// measured is one reading.
type measured struct {
	value float64
	of    gate.Reading
}

// measure takes a reading.
func measure(ctx context.Context, name string) (measured, error) {
	r, err := gate.ParseReading(name)
	if err != nil {
		return measured{}, err
	}
	folder, err := os.Getwd()
	if err != nil {
		return measured{}, err
	}
	n, err := launch.Measure(ctx, name, os.Environ(), folder)
	return measured{n, r}, err
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

// readingText writes a value of a reading.
func readingText(r gate.Reading, value float64) string {
	if r.Bytes() {
		return bytesText(int64(math.Abs(value)))
	}
	const digits = 1000
	return humanize.Commaf(math.Round(math.Abs(value)*digits) / digits)
}

// finely writes a value of a reading, so that values a step apart can be told apart.
func finely(r gate.Reading, value, step float64) string {
	if !r.Bytes() || step <= 0 {
		return signed(r, value)
	}
	unit, name := 1.0, "B"
	for _, next := range []string{"kB", "MB", "GB", "TB", "PB"} {
		if math.Abs(value) < 1000*unit {
			break
		}
		unit, name = 1000*unit, next
	}
	digits := max(int(math.Ceil(math.Log10(unit/step))), 0)
	return strconv.FormatFloat(value/unit, 'f', digits, 64) + " " + name
}

// tellMeasured takes the readings of before once more, and tells both.
func (a *app) tellMeasured(ctx context.Context, names []string, before []measured) {
	if after, err := measureAll(context.WithoutCancel(ctx), names); err == nil {
		a.printMeasured(names, before, after)
	}
}

// printMeasured tells readings before and after, with the difference.
func (a *app) printMeasured(names []string, before, after []measured) {
	for i := range names {
		fmt.Fprintln(a.err, changeText(before[i].of, before[i].value, after[i].value))
	}
}

// changeText tells a reading before and after.
func changeText(r gate.Reading, before, after float64) string {
	by := "no change"
	switch {
	case after > before:
		by = readingText(r, after-before) + " more"
	case after < before:
		by = readingText(r, before-after) + " less"
	}
	return fmt.Sprintf("%s: %s, then %s (%s)", r.Words(), signed(r, before), signed(r, after), by)
}

// signed writes a value that may be below zero, as a command may print it.
func signed(r gate.Reading, value float64) string {
	if value < 0 {
		return "-" + readingText(r, value)
	}
	return readingText(r, value)
}
