package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"time"
)

func beginning(l *lab) (string, error) {
	source, err := recorded(1_000_000)(l)
	if err != nil {
		return "", err
	}
	home, err := l.copyHome(source)
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(home)
	k, took, err := l.begin(home)
	if err != nil {
		return "", err
	}
	k.end()
	emptied := forget()
	k, again, err := l.begin(home)
	if err != nil {
		return "", err
	}
	k.end()
	if emptied != nil {
		return fmt.Sprintf("%d ms the first time, %d ms the second", took.Milliseconds(), again.Milliseconds()), nil
	}
	return fmt.Sprintf("%d ms; %d ms with nothing in the machine's cache and nothing missed", took.Milliseconds(), again.Milliseconds()), nil
}

func manyGates(l *lab) (string, error) {
	source, err := gates(10_000, "every 10m", "at HH:MM")(l)
	if err != nil {
		return "", err
	}
	home, err := l.copyHome(source)
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(home)
	k, first, err := l.begin(home)
	if err != nil {
		return "", err
	}
	memory := resident(k.cmd.Process.Pid)
	k.end()
	k, again, err := l.begin(home)
	if err != nil {
		return "", err
	}
	k.end()
	return fmt.Sprintf("%.2f s the first time, %.2f s from then on; %.0f MB", first.Seconds(), again.Seconds(), memory), nil
}

// idle is an idle Go program, as a floor.
const idle = `package main

import "time"

func main() { time.Sleep(time.Hour) }
`

func idleKeeper(l *lab) (string, error) {
	home, err := l.home("idle", func(dir string) error { return writeGates(dir, 100, "at 00:00 on 2090-01-01") })
	if err != nil {
		return "", err
	}
	source, program := filepath.Join(l.folder, "idle.go"), filepath.Join(l.folder, "idle-program")
	if err := os.WriteFile(source, []byte(idle), 0o600); err != nil {
		return "", err
	}
	if err := exec.Command("go", "build", "-o", program, source).Run(); err != nil {
		return "", err
	}
	floor := exec.Command(program)
	if err := floor.Start(); err != nil {
		return "", err
	}
	defer func() { floor.Process.Kill(); floor.Wait() }()
	k, _, err := l.begin(home)
	if err != nil {
		return "", err
	}
	defer k.end()
	time.Sleep(70 * time.Second) // what follows a begin is over
	pid, beside := k.cmd.Process.Pid, floor.Process.Pid
	before, floorBefore := switches(pid), switches(beside)
	time.Sleep(time.Minute)
	agents := 0.0
	for _, child := range children(pid) {
		agents += resident(child)
	}
	return fmt.Sprintf("%d; beside it %d; %.0f MB and %.0f MB of its agent", switches(pid)-before, switches(beside)-floorBefore, resident(pid), agents), nil
}

func manyChanges(l *lab) (string, error) {
	folder := filepath.Join(l.folder, "proofs")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	defer os.RemoveAll(folder)
	home, err := l.home("changes", func(dir string) error {
		text := fmt.Sprintf("run = [\"/bin/sh\", \"-c\", \"sort -zu $TIMEGATE_FILES | tr -dc '\\\\0' | wc -c >>%s/told\"]\nopens = [\"change in %s quiet 2s\"]\n", dir, folder)
		return os.WriteFile(filepath.Join(dir, "gates", "proof-inbox.toml"), []byte(text), 0o600)
	})
	if err != nil {
		return "", err
	}
	k, _, err := l.begin(home)
	if err != nil {
		return "", err
	}
	defer k.end()
	time.Sleep(2 * time.Second)
	all := append(children(k.cmd.Process.Pid), k.cmd.Process.Pid)
	taken := func() (sum float64) {
		for _, pid := range all {
			sum += processor(pid)
		}
		return sum
	}
	before, began := taken(), time.Now()
	for i := range 100_000 {
		if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("sheet-%d", i)), nil, 0o600); err != nil {
			return "", err
		}
		if ahead := time.Duration(i)*600*time.Microsecond - time.Since(began); ahead > 0 && i%100 == 99 {
			time.Sleep(ahead)
		}
	}
	share := (taken() - before) / time.Since(began).Seconds()
	told := filepath.Join(home, "told")
	for range 300 {
		if text, err := os.ReadFile(told); err == nil && len(text) > 0 {
			n := 0
			if _, err := fmt.Sscan(string(text), &n); err != nil {
				return "", err
			}
			return fmt.Sprintf("%.0f %% of a core, its agent included; %d paths told", 100*share, n), nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return "", fmt.Errorf("%s was never opened", home)
}
