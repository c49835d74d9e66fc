// Package figures writes what a monitoring system wants to know of a keeper, in the
// OpenMetrics text format.
package figures

import (
	"bufio"
	"io"
	"strconv"
	"strings"
	"time"
)

// Figures are what is told.
type Figures struct {
	Up           bool // a keeper answers
	Paused       bool
	JournalBytes int64
	Gates        []Gate // by name
}

// Gate is what is told of a gate. Runs and moments are those of the last day.
type Gate struct {
	Name               string
	State              string // on, off or broken
	Running            int
	EndedWell          int64
	EndedBadly         int64
	Skipped, Missed    int64
	Longest            time.Duration
	Usual              time.Duration // 0 where it is not known
	LastEnded          time.Time     // zero for never, like the next two
	LastGood, NextOpen time.Time
}

// ContentType is the media type of what is written (OpenMetrics, "Content type").
const ContentType = "application/openmetrics-text; version=1.0.0; charset=utf-8"

// Write writes figures. All are gauges: the journal forgets what is old, and a counter must
// not go back. Names and units are as OpenMetrics wants them: seconds and bytes.
func Write(out io.Writer, f *Figures) error {
	w := &writer{out: bufio.NewWriter(out)}
	w.family("timegate_keeper_up", "whether a keeper answers", one(truth(f.Up)))
	w.family("timegate_keeper_paused", "whether nothing opens by itself", one(truth(f.Paused)))
	w.family("timegate_journal_size_bytes", "how large the journal is", one(float64(f.JournalBytes)))
	each := func(name, help string, of func(g *Gate) []sample) {
		var all []sample
		for i := range f.Gates {
			for _, s := range of(&f.Gates[i]) {
				s.labels = append([]string{"gate", f.Gates[i].Name}, s.labels...)
				all = append(all, s)
			}
		}
		w.family(name, help, all)
	}
	each("timegate_gate_state", "1 for the state of the gate, 0 for the others", func(g *Gate) (out []sample) {
		for _, state := range []string{"on", "off", "broken"} {
			out = append(out, sample{truth(g.State == state), []string{"state", state}})
		}
		return out
	})
	each("timegate_gate_running", "how many of its programs run", func(g *Gate) []sample { return one(float64(g.Running)) })
	each("timegate_gate_day_runs", "how many runs have ended in the last 24 hours", func(g *Gate) []sample {
		return []sample{{float64(g.EndedWell), []string{"ended", "well"}}, {float64(g.EndedBadly), []string{"ended", "badly"}}}
	})
	each("timegate_gate_day_passed", "how many moments passed without a run in the last 24 hours", func(g *Gate) []sample {
		return []sample{{float64(g.Skipped), []string{"how", "skipped"}}, {float64(g.Missed), []string{"how", "missed"}}}
	})
	each("timegate_gate_day_longest_seconds", "how long its longest run of the last 24 hours took", func(g *Gate) []sample { return one(g.Longest.Seconds()) })
	each("timegate_gate_usual_seconds", "how long its runs usually take", func(g *Gate) []sample {
		if g.Usual == 0 {
			return nil
		}
		return one(g.Usual.Seconds())
	})
	each("timegate_gate_last_end_timestamp_seconds", "when its last run ended", func(g *Gate) []sample { return moment(g.LastEnded) })
	each("timegate_gate_last_success_timestamp_seconds", "when a run ended well last", func(g *Gate) []sample { return moment(g.LastGood) })
	each("timegate_gate_next_timestamp_seconds", "when it opens next, as far as that can be foretold", func(g *Gate) []sample { return moment(g.NextOpen) })
	w.out.WriteString("# EOF\n")
	return w.out.Flush() // which has the first error of all
}

// sample is a value with its labels, a name and a text in turn.
type sample struct {
	value  float64
	labels []string
}

func one(v float64) []sample { return []sample{{value: v}} }

func truth(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func moment(t time.Time) []sample {
	if t.IsZero() {
		return nil
	}
	return one(float64(t.UnixMilli()) / 1000)
}

// writer writes families. The format is small enough to be written here: the encoders that
// there are bring two megabytes of another format with them.
type writer struct{ out *bufio.Writer }

// escape writes what has a meaning of its own in a text (OpenMetrics, "ABNF",
// escaped-string).
var escape = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`)

func (w *writer) family(name, help string, samples []sample) {
	if len(samples) == 0 {
		return
	}
	w.out.WriteString("# TYPE " + name + " gauge\n")
	for _, unit := range []string{"seconds", "bytes"} {
		if strings.HasSuffix(name, "_"+unit) {
			w.out.WriteString("# UNIT " + name + " " + unit + "\n")
		}
	}
	w.out.WriteString("# HELP " + name + " " + escape.Replace(help) + "\n")
	for _, s := range samples {
		w.out.WriteString(name)
		for i := 0; i < len(s.labels); i += 2 {
			before := ","
			if i == 0 {
				before = "{"
			}
			w.out.WriteString(before + s.labels[i] + `="` + escape.Replace(s.labels[i+1]) + `"`)
		}
		if len(s.labels) > 0 {
			w.out.WriteByte('}')
		}
		w.out.WriteString(" " + strconv.FormatFloat(s.value, 'f', -1, 64) + "\n")
	}
}
