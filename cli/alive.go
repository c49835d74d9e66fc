package cli

import (
	"bytes"
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"timegate/control"
	"timegate/core/words"
	"timegate/journal"
	"timegate/workstation/here"
)

// alive is a run that has not ended, and what it has done so far: a program without
// a window is seen to be alive, or stuck.
type alive struct {
	Run       int64     `json:"run"`
	PID       int       `json:"pid"`
	Started   time.Time `json:"started"`
	ForS      float64   `json:"for_s"`
	CPUS      float64   `json:"cpu_s"` // processor time of all its processes
	Memory    int64     `json:"memory"`
	Processes int       `json:"processes"`
	Output    int       `json:"output"` // bytes printed
	LastLine  string    `json:"last_line"`
}

// aliveOf looks at a run that has not ended; nil where it has, or not begun.
func (a *app) aliveOf(j control.Records, e *journal.Entry) *alive {
	if e.Run == 0 || e.Started == 0 || e.Ended != 0 {
		return nil
	}
	x := &alive{Run: e.Run, PID: e.PID, Started: e.Started.Time().In(a.zone.Location()), ForS: a.now().Sub(e.Started.Time()).Seconds()}
	if used, ok := here.Activity(e.PID); ok && e.PID != 0 {
		x.CPUS, x.Memory, x.Processes = used.Processor.Seconds(), used.Memory, used.Processes
	}
	if text, err := j.Output(e.Run); err == nil {
		x.Output = len(text)
		lines := bytes.Split(bytes.TrimRight(text, "\r\n"), []byte("\n"))
		x.LastLine = words.Line(string(lines[len(lines)-1]))
	}
	return x
}

// aliveRuns looks at runs by their numbers.
func (a *app) aliveRuns(j control.Records, runs []int64) []alive {
	out := []alive{}
	for _, run := range runs {
		if e, ok, err := j.Run(run); err == nil && ok {
			if x := a.aliveOf(j, &e); x != nil {
				out = append(out, *x)
			}
		}
	}
	return out
}

// words says what a run does: "process 4711, 2 s processor, 12 MB memory".
func (x *alive) words() string {
	if x.Processes == 0 {
		return "process " + fmt.Sprint(x.PID)
	}
	text := fmt.Sprintf("process %d", x.PID)
	if x.Processes > 1 {
		text += fmt.Sprintf(" and %d more", x.Processes-1)
	}
	text += fmt.Sprintf(", %s processor, %s memory", short(time.Duration(x.CPUS*float64(time.Second))), humanize.Bytes(uint64(x.Memory)))
	if x.Output == 0 {
		return text + ", nothing printed"
	}
	return text + fmt.Sprintf(", %s printed, last: %s", humanize.Bytes(uint64(x.Output)), strings.TrimSpace(x.LastLine))
}

// printAlive tells what runs now.
func (a *app) printAlive(list []alive) {
	for i := range list {
		x := &list[i]
		a.line("runs", a.wrapped(fmt.Sprintf("run %d, for %s: %s", x.Run, short(time.Duration(x.ForS*float64(time.Second))), x.words())))
	}
}
