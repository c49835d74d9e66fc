package main

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// seconds runs a command to its end, with its output thrown away, and returns how long it
// took. An exit status other than 0 and 3 (something was found) is an error.
func seconds(argv ...string) (float64, error) {
	cmd := exec.Command(argv[0], argv[1:]...)
	var problems bytes.Buffer
	cmd.Stderr = &problems
	began := time.Now()
	err := cmd.Run()
	took := time.Since(began).Seconds()
	if err != nil && cmd.ProcessState.ExitCode() != 3 {
		return 0, fmt.Errorf("%s: %w\n%s", strings.Join(argv, " "), err, problems.Bytes())
	}
	return took, nil
}

// above returns how much longer a call of the program takes than the empty program, run in
// turn with it: the fastest tenth and the median, in milliseconds.
func (l *lab) above(times int, args ...string) (fast, median float64, err error) {
	var calls, floors []float64
	for range times {
		floor, err := seconds(l.empty)
		if err != nil {
			return 0, 0, err
		}
		call, err := seconds(append([]string{l.program}, args...)...)
		if err != nil {
			return 0, 0, err
		}
		calls, floors = append(calls, call*1000), append(floors, floor*1000)
	}
	slices.Sort(calls)
	slices.Sort(floors)
	return calls[times/10] - floors[times/10], calls[times/2] - floors[times/2], nil
}

// warm measures a call above the empty program.
func warm(times int, home func(*lab) (string, error), args ...string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		dir, err := home(l)
		if err != nil {
			return "", err
		}
		fast, median, err := l.above(times, append([]string{"--home", dir}, args...)...)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%.1f to %.1f ms", fast, median), nil
	}
}

// forget empties the machine's cache of files.
func forget() error {
	syscall.Sync()
	if err := os.WriteFile("/proc/sys/vm/drop_caches", []byte("3"), 0); err != nil {
		return fmt.Errorf("%w: %w", errNotHere, err)
	}
	return nil
}

// cold measures calls with nothing in the machine's cache, above the empty program in the
// same state: the median of five each.
func cold(home func(*lab) (string, error), calls ...[]string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		dir, err := home(l)
		if err != nil {
			return "", err
		}
		median := func(argv ...string) (float64, error) {
			var all []float64
			for range 5 {
				if err := forget(); err != nil {
					return 0, err
				}
				took, err := seconds(argv...)
				if err != nil {
					return 0, err
				}
				all = append(all, took*1000)
			}
			slices.Sort(all)
			return all[2], nil
		}
		floor, err := median(l.empty)
		if err != nil {
			return "", err
		}
		var words []string
		for _, call := range calls {
			took, err := median(append([]string{l.program, "--home", dir}, call...)...)
			if err != nil {
				return "", err
			}
			words = append(words, fmt.Sprintf("`%s` %.0f", call[0], took-floor))
		}
		return strings.Join(words, ", ") + fmt.Sprintf(" ms; the empty program itself %.0f", floor), nil
	}
}

// keeper is a keeper that runs for a measure.
type keeper struct {
	cmd *exec.Cmd
	log string
}

// begin starts a keeper on a home and returns it when it has answered, with how long that
// took.
func (l *lab) begin(home string) (*keeper, time.Duration, error) {
	file, err := os.CreateTemp(l.folder, "keeper-*.log")
	if err != nil {
		return nil, 0, err
	}
	defer file.Close()
	k := &keeper{cmd: exec.Command(l.program, "--home", home, "keeper", "run"), log: file.Name()}
	k.cmd.Stdout, k.cmd.Stderr = file, file
	began := time.Now()
	if err := k.cmd.Start(); err != nil {
		return nil, 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for exec.CommandContext(ctx, l.program, "--home", home, "keeper", "status").Run() != nil {
		if ctx.Err() != nil {
			text, _ := os.ReadFile(k.log)
			return nil, 0, fmt.Errorf("the keeper does not answer\n%s", text)
		}
		time.Sleep(5 * time.Millisecond)
	}
	return k, time.Since(began), nil
}

// end lets a keeper end, and its agents with what they run.
func (k *keeper) end() {
	agents := children(k.cmd.Process.Pid)
	k.cmd.Process.Signal(syscall.SIGTERM)
	k.cmd.Wait()
	for _, pid := range agents {
		syscall.Kill(pid, syscall.SIGTERM)
	}
}

func children(pid int) (pids []int) {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, task := range tasks {
		text, _ := os.ReadFile(task)
		for word := range strings.FieldsSeq(string(text)) {
			if child, err := strconv.Atoi(word); err == nil {
				pids = append(pids, child)
			}
		}
	}
	return pids
}

// switches returns how often the threads of a process have been switched to.
func switches(pid int) (n int) {
	tasks, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/status", pid))
	for _, task := range tasks {
		text, _ := os.ReadFile(task)
		for line := range strings.Lines(string(text)) {
			if name, count, found := strings.Cut(line, "ctxt_switches:"); found && (name == "voluntary_" || name == "nonvoluntary_") {
				k, _ := strconv.Atoi(strings.TrimSpace(count))
				n += k
			}
		}
	}
	return n
}

// resident returns the memory of a process that is in the machine's, in megabytes.
func resident(pid int) float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/statm", pid))
	if fields := strings.Fields(string(text)); len(fields) > 1 {
		pages, _ := strconv.Atoi(fields[1])
		return float64(pages*os.Getpagesize()) / 1e6
	}
	return 0
}

// processor returns the processor time that a process has taken, in seconds.
func processor(pid int) float64 {
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	if len(fields) < 13 {
		return 0
	}
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	return float64(user+system) / 100 // clock ticks of proc(5)
}
