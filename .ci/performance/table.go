package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// table is docs/performance.md's: what is measured, what is wanted of it, and how.
func table() []row {
	const self = "this program"
	hundred := gates(100, "every 10m", "at HH:MM")
	thousand := gates(1000, "every 10m", "at HH:MM")
	large := []string{"-benchtime", "20x"}
	return append([]row{
		{"next due of common phrases", "≤ 300 ns, no allocation", "`go test ./core/phrase -run - -bench Next`", nextDue(commonPhrase)},
		{"next due of the rest (years away, moved days, strides in weeks)", "< 2 µs, no allocation", "same", nextDue(func(name string) bool { return !commonPhrase(name) })},
		{"a year of dues of 1,000 mixed gates", "< 1 s on one core", "`go test ./core/phrase -run - -bench Year`",
			ofBench("./core/phrase", "Year", "Year", "%.2f s for %.2f million dues", []string{"ns/op/÷1e9", "dues/op/÷1e6"})},
		{"from due to exec, above a bare timer's own lateness", "p99 ≤ 1.5 ms", "`go test ./keeper -run - -bench Lateness -benchtime 300x`", lateness},
		{"1,000 gates due at one instant: rate of starts, journal included, as a share of bare forks and execs", "≥ 0.8", "`go test ./keeper -run - -bench ManyStarts -benchtime 4x`",
			ofBench("./keeper", "ManyStarts", "ManyStarts", "%.2f", []string{"of-bare-rate"}, "-benchtime", "4x")},
		{"10,000 gates with two openings each, until `status` is answered; resident memory then", "< 1 s, < 80 MB", self, manyGates},
		{"100,000 changes in 60 s through one `quiet` opening: processor time of the keeper", "< 10 % of a core, nothing lost", self, manyChanges},
		{"a start with pipe, control group and session against bare fork and exec", "–", "`go test ./workstation/linux -run - -bench Start`", ratio("./workstation/linux", "Start", "Start/start", "Start/floor:_fork_and_exec")},
		{"an answer of the X server through the relay that keeps windows away, against the same without", "–", "`go test ./workstation/linux -run - -bench Relay`", ratio("./workstation/linux", "Relay", "Relay/answer_through_a_relay", "Relay/floor:_answer")},
		{"start of a relay against bare fork and exec", "–", "same", ratio("./workstation/linux", "Relay", "Relay/start_of_a_relay", "Relay/floor:_fork_and_exec")},
		{"a start's intent made durable", "–", "`go test ./journal -run - -bench Intent`", ofBench("./journal", "Intent", "Intent", "%.2f ms", []string{"ns/op/÷1e6"})},
		{"keeper of 100 gates with nothing due: context switches in 60 s, memory; an idle Go program beside it", "none of its own, < 40 MB", self, idleKeeper},
		{"what `history`, `list`, `show`, `week`, `why` and `check` ask a journal of a million runs, opened anew for each", "< 100 ms", "`go test ./journal -run - -bench Large`", journalQuestions(1_000_000)},
		{"the same of ten million runs", "< 100 ms", "`go run ./.ci/performance -large`", journalQuestions(10_000_000)},
		{"the state at the keeper's begin from a million runs", "–", "same", ofBench("./journal", "Large", "Large/begin", "%.1f ms", []string{"ns/op/÷1e6"}, append(large, "TIMEGATE_BENCH_DECISIONS=2000000")...)},
		{"another name for a gate in a journal of a million runs", "–", "same", ofBench("./journal", "Large", "Large/rename", "%.1f ms", []string{"ns/op/÷1e6"}, append(large, "TIMEGATE_BENCH_DECISIONS=2000000")...)},
		{"`history --stats` of a million runs", "< 1 s", "same", ofBench("./journal", "Large", "Large/history-stats", "%.2f s", []string{"ns/op/÷1e9"}, append(large, "TIMEGATE_BENCH_DECISIONS=2000000")...)},
	}, commandRows(hundred, thousand)...)
}

func commandRows(hundred, thousand func(*lab) (string, error)) []row {
	const self = "this program"
	million := recorded(1_000_000)
	asked := [][]string{{"history"}, {"list"}, {"show", "gate-7"}, {"week"}, {"why", "gate-7"}, {"check"}}
	return []row{
		{"whole commands on a million runs, above the empty program", "< 100 ms", self, eachWarm(million, asked)},
		{"the same with nothing in the machine's cache", "< 100 ms", self, cold(million, asked...)},
		{"begin of a keeper on a million runs, all 100 gates with missed moments, until `status` is answered", "< 200 ms", self, beginning},
		{"`list` of 100 gates above an empty static Go program: fastest tenth to median", "≤ 6 ms", self, warm(100, hundred, "list")},
		{"`help` above the same", "≤ 3 ms", self, warm(100, hundred, "help")},
		{"`list` of 1,000 gates above the same", "–", self, warm(20, thousand, "list")},
		{"`rehearse` of a day of 100 gates above the same", "< 50 ms", self, warm(20, gates(100, "every 1h", "at HH:MM"), "rehearse", "--example", "office-day")},
		{"`why` about the future with 1,000 gates above the same", "< 100 ms", self, warm(20, thousand, "why", "gate-7")},
		{"`find` in 5,000 desktop entries above the same", "< 100 ms", self, entriesRow("applications", "XDG_DATA_HOME", 5000, "find", "4711")},
		{"`startup` of 500 autostart entries above the same", "< 200 ms", self, entriesRow("autostart", "XDG_CONFIG_HOME", 500, "startup")},
		{"`apply` of 1,000 new gates, checked and written, the whole process", "< 1 s", self, applying},
		{"`report` of 100,000 runs of 100 gates, the whole process", "< 3 s and < 2 MB", self, reporting},
		{"`rehearse` of a year of 1,000 gates, counted by gate", "< 6 s for 8.2 million decisions", "`go test ./core/rehearsal -run - -bench Year`",
			ofBench("./core/rehearsal", "Year", "Year", "%.1f s for %.1f million decisions", []string{"ns/op/÷1e9", "decisions/÷1e6"}, "-benchtime", "3x")},
		{"`replay` of 30 days of 100 gates: the engine and the comparison", "< 2 s", "`go test ./core/rehearsal -run - -bench Replay`",
			ofBench("./core/rehearsal", "Replay", "Replay", "%.1f s for %.0f starts, %.2f of the rehearsal of the same days", []string{"ns/op/÷1e9", "starts", "×rehearsal"}, "-benchtime", "3x")},
		{"a bundle of 20 KB on 10,000 workstations beside the broker, until 99 % have taken it", "< 20 s", "`TIMEGATE_ESTATE_HOSTS=10000 go test ./estate -run - -bench Estate -benchtime 1x`",
			ofBench("./estate", "Estate", "Estate", "%.0f s", []string{"p99-s"}, "-benchtime", "1x", "TIMEGATE_ESTATE_HOSTS=10000")},
		{"100 keepers as processes of one machine: memory of each with its network's process, processor time of an idle one", "–", "`TIMEGATE_ESTATE_KEEPERS=100 go test ./estate -run - -bench Keepers -benchtime 1x`",
			ofBench("./estate", "Keepers", "Keepers", "%.0f MB, %.2f %% of a core", []string{"MB/keeper", "idle-%/keeper"}, "-benchtime", "1x", "TIMEGATE_ESTATE_KEEPERS=100")},
		{"the program, stripped", "< 34 MB", "`CGO_ENABLED=0 go build -trimpath -ldflags='-s -w'`", func(l *lab) (string, error) {
			info, err := os.Stat(l.program)
			if err != nil {
				return "", err
			}
			return fmt.Sprintf("%.1f MB", float64(info.Size())/1e6), nil
		}},
	}
}

func commonPhrase(name string) bool {
	for _, rare := range []string{"day_29", "2090", "2nd_tue", "2_weeks"} {
		if strings.Contains(name, rare) {
			return false
		}
	}
	return true
}

func nextDue(of func(string) bool) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		r, err := l.bench("./core/phrase", "Next")
		if err != nil {
			return "", err
		}
		low, high, err := r.spread("ns/op", of)
		if err != nil {
			return "", err
		}
		_, most, err := r.spread("allocs/op", of)
		return fmt.Sprintf("%.0f to %.0f ns, %.0f allocations", low, high, most), err
	}
}

func lateness(l *lab) (string, error) {
	r, err := l.bench("./keeper", "Lateness", "-benchtime", "300x")
	if err != nil {
		return "", err
	}
	above := func(what string) float64 { return (r["Lateness"][what] - r["Lateness"]["timer"+what[5:]]) / 1000 }
	return fmt.Sprintf("p50 %.1f ms, p99 %.1f ms, to the millisecond; until the keeper has heard of it and recorded it p50 %.1f ms, p99 %.1f ms",
		above("start-p50-µs"), above("start-p99-µs"), above("heard-p50-µs"), above("heard-p99-µs")), nil
}

// journalQuestions asks a journal of so many runs; the largest only where that was asked for.
func journalQuestions(runs int) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		if runs > 1_000_000 && !l.large {
			return "", errNotHere
		}
		r, err := l.bench("./journal", "Large", "-benchtime", "20x", fmt.Sprintf("TIMEGATE_BENCH_DECISIONS=%d", 2*runs))
		if err != nil {
			return "", err
		}
		asked := map[string]bool{"history": true, "history-of-gate": true, "history-failed": true, "list-last": true, "list-good": true, "week-longest": true, "why": true, "check-absences": true}
		low, high, err := r.spread("ns/op", func(name string) bool { return asked[strings.TrimPrefix(name, "Large/")] })
		return fmt.Sprintf("%.1f to %.1f ms each", low/1e6, high/1e6), err
	}
}

func eachWarm(home func(*lab) (string, error), calls [][]string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		dir, err := home(l)
		if err != nil {
			return "", err
		}
		var words []string
		for _, call := range calls {
			_, median, err := l.above(10, append([]string{"--home", dir}, call...)...)
			if err != nil {
				return "", err
			}
			words = append(words, fmt.Sprintf("`%s` %.0f", call[0], median))
		}
		return strings.Join(words, ", ") + " ms", nil
	}
}

func entriesRow(kind, variable string, n int, call ...string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		dir, err := l.entries(kind, n)
		if err != nil {
			return "", err
		}
		old, had := os.LookupEnv(variable)
		os.Setenv(variable, dir)
		defer func() {
			if os.Unsetenv(variable); had {
				os.Setenv(variable, old)
			}
		}()
		return warm(20, func(*lab) (string, error) {
			return filepath.Join(dir, "home"), os.MkdirAll(filepath.Join(dir, "home"), 0o700)
		}, call...)(l)
	}
}

func applying(l *lab) (string, error) {
	source, err := gates(1000, "every 10m", "at HH:MM")(l)
	if err != nil {
		return "", err
	}
	var took []float64
	for i := range 3 {
		t, err := seconds(l.program, "--home", filepath.Join(l.folder, fmt.Sprintf("applied-%d-%d", i, time.Now().UnixNano())), "apply", "--yes", filepath.Join(source, "gates"))
		if err != nil {
			return "", err
		}
		took = append(took, t)
	}
	return fmt.Sprintf("%.2f to %.2f s", min(took[0], took[1], took[2]), max(took[0], took[1], took[2])), nil
}

func reporting(l *lab) (string, error) {
	dir, err := recorded(100_000)(l)
	if err != nil {
		return "", err
	}
	page := filepath.Join(l.folder, "report.html")
	took, err := seconds(l.program, "--home", dir, "report", page, "--since", "30d")
	if err != nil {
		return "", err
	}
	info, err := os.Stat(page)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("%.1f s and %.2f MB", took, float64(info.Size())/1e6), nil
}

// copyHome returns a copy of a home for a keeper to run on.
func (l *lab) copyHome(dir string) (string, error) {
	made, err := os.MkdirTemp(l.folder, "copy-")
	if err != nil {
		return "", err
	}
	return made, exec.Command("cp", "-a", dir+"/.", made).Run()
}
