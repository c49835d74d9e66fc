//go:build linux

package linux

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"timegate/core/phrase"
	"timegate/workstation"
)

// levels looks from time to time how much memory and disk is free. The kernel
// tells of neither by itself.
type levels struct {
	board *workstation.Board
	set   chan []workstation.Watch // holds the newest
	done  chan struct{}
}

// How often it looks: when a limit is near, and when it is far.
const (
	nearLook = 5 * time.Second
	farLook  = 30 * time.Second
	farAbove = 2 // limits that are free
)

func newLevels(board *workstation.Board) *levels {
	l := &levels{board: board, set: make(chan []workstation.Watch, 1), done: make(chan struct{})}
	go l.run()
	return l
}

func (l *levels) close() { close(l.done) }

// want says what is looked at, without waiting for a look that hangs. It is
// called by one goroutine at a time.
func (l *levels) want(watches []workstation.Watch) {
	select {
	case <-l.set:
	default:
	}
	l.set <- watches
}

func (l *levels) run() {
	var watches []workstation.Watch
	state := map[string]*phrase.Level{}
	timer := time.NewTimer(time.Hour)
	timer.Stop()
	for {
		select {
		case <-l.done:
			return
		case watches = <-l.set:
			before := state
			state = map[string]*phrase.Level{}
			for _, w := range watches {
				if state[w.Key] = before[w.Key]; state[w.Key] == nil {
					state[w.Key] = &phrase.Level{}
				}
			}
		case <-timer.C:
		}
		if pause := l.poll(watches, state); pause > 0 {
			timer.Reset(pause)
		} else {
			timer.Stop()
		}
	}
}

// poll posts what has fallen below its limit and returns when to look again.
func (l *levels) poll(watches []workstation.Watch, state map[string]*phrase.Level) time.Duration {
	pause := time.Duration(0)
	for _, w := range watches {
		free, total, err := memory()
		subject := ""
		if w.Event.Kind == phrase.LowDisk {
			subject = w.Event.Paths[0]
			free, total, err = disk(subject)
		}
		if pause == 0 {
			pause = farLook
		}
		if err != nil {
			continue
		}
		if state[w.Key].Fell(w.Event.Amount, free, total) {
			l.board.Post(workstation.Notice{Event: w.Event.Kind, Name: w.Key, Subject: subject}, nil)
		}
		if state[w.Key].Room(w.Event.Amount, free, total) < farAbove {
			pause = nearLook
		}
	}
	return pause
}

// memory returns how much memory programs can still have, and how much there is.
func memory() (free, total int64, err error) {
	m, err := memoryInfo()
	return m["MemAvailable"], m["MemTotal"], err
}

// memoryInfo returns what the kernel tells of memory, in bytes, by its names (proc_meminfo(5)).
func memoryInfo() (map[string]int64, error) {
	f, err := os.Open("/proc/meminfo")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	out := map[string]int64{}
	for s := bufio.NewScanner(f); s.Scan(); {
		name, rest, _ := strings.Cut(s.Text(), ":")
		var kib int64
		if n, _ := fmt.Sscan(rest, &kib); n == 1 {
			out[name] = kib << 10
		}
	}
	if out["MemTotal"] == 0 {
		return nil, errors.New("the kernel does not tell how much memory is free")
	}
	return out, nil
}

// disk returns how much an ordinary account can still write at a path, and
// how large the file system is.
func disk(path string) (free, total int64, err error) {
	var st unix.Statfs_t
	if err := unix.Statfs(path, &st); err != nil {
		return 0, 0, fmt.Errorf("%s: %w", path, err)
	}
	return int64(st.Bavail) * st.Bsize, int64(st.Blocks) * st.Bsize, nil
}

// Reading returns how many bytes are free of a disk, as in "disk:/home", or what the kernel
// tells of memory: of "memory" what programs can still have, of "memory:free" what nothing
// uses, of "memory:cached" what holds files and is given back when it is wanted, of "swap"
// what is free there.
func Reading(name string) (int64, error) {
	if path, ok := strings.CutPrefix(name, "disk:"); ok {
		free, _, err := disk(path)
		return free, err
	}
	m, err := memoryInfo()
	switch name {
	case "memory:free":
		return m["MemFree"], err
	case "memory:cached":
		return m["Cached"] + m["Buffers"] + m["SReclaimable"] - m["Shmem"], err
	case "swap":
		return m["SwapFree"], err
	}
	return m["MemAvailable"], err
}

// Load returns how many processes ran or waited to, on average over the last minute
// (proc_loadavg(5)).
func Load() (load float64, err error) {
	data, err := os.ReadFile("/proc/loadavg")
	if err == nil {
		_, err = fmt.Sscanf(string(data), "%g", &load)
	}
	return load, err
}

// pressure returns the largest share of the last ten seconds, in percent, in
// which some work had to wait for processor, memory or disk (Pressure Stall
// Information; Documentation/accounting/psi.rst in the kernel). It is 0 where
// the kernel does not tell.
func pressure() int {
	most := 0.0
	for _, what := range []string{"cpu", "memory", "io"} {
		b, err := os.ReadFile("/proc/pressure/" + what)
		if err != nil {
			continue
		}
		var avg float64
		if n, _ := fmt.Sscanf(string(b), "some avg10=%f", &avg); n == 1 {
			most = max(most, avg)
		}
	}
	return int(most)
}
