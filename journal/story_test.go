package journal

import (
	"fmt"
	"strings"
	"testing"

	"timegate/core/calendar"
	"timegate/core/engine"
)

// TestStory: the last moments of a gate, newest first, each with all that was
// decided about it; that files had begun to change is no moment of its own.
func TestStory(t *testing.T) {
	j, _ := open(t)
	wait := func(at calendar.Instant, opening string, due calendar.Instant, what engine.WaitKind) Record {
		return Record{Event: tick(at),
			Decisions: []engine.Decision{{Kind: engine.Wait, At: at, Gate: "proof-inbox", Opening: opening, Due: due, For: what}}}
	}
	over := func(at calendar.Instant, run int64, opening string, due calendar.Instant) Record {
		r := end(at, run, "proof-inbox", engine.ResultOK)
		r.Decisions[0].Opening, r.Decisions[0].Due = opening, due
		return r
	}
	write(t, j,
		wait(1000, "1", 6000, engine.ForQuiet), start(9000, 1, "proof-inbox", "1", 9000), over(9500, 1, "1", 9000),
		wait(10_000, "2", 10_000, engine.ForNeeds), skip(10_500, "proof-inbox", "1", 10_500), start(11_000, 2, "proof-inbox", "2", 10_000),
		start(12_000, 3, "job-board", "1", 12_000), over(13_000, 2, "2", 10_000), wait(14_000, "1", 19_000, engine.ForQuiet))
	tell := func(limit int) string {
		t.Helper()
		moments, err := j.Story("proof-inbox", limit)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, m := range moments {
			line := fmt.Sprintf("%s@%d", m.Opening, m.Due)
			for _, d := range m.Decisions {
				line += " " + string(d.Kind)
			}
			out = append(out, fmt.Sprintf("%s, %d runs", line, len(m.Runs)))
		}
		return strings.Join(out, "; ")
	}
	const want = "2@10000 wait start end, 1 runs; 1@10500 skip, 0 runs; 1@9000 start end, 1 runs"
	if got := tell(10); got != want {
		t.Errorf("story\n got %s\nwant %s", got, want)
	}
	if got := tell(1); got != "2@10000 wait start end, 1 runs" {
		t.Errorf("the last alone: %s", got)
	}
}
