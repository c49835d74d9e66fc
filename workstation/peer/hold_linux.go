package peer

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"strconv"
	"syscall"
)

// Hold returns a process of which somebody was told the number, if it is an account's:
// the number may be another process's by then. What is held is a descriptor of it
// (pidfd_open(2)), so it stays the one that was looked at.
func Hold(pid, uid int) (*os.Process, error) {
	proc, err := os.FindProcess(pid)
	if err != nil {
		return nil, err
	}
	has, err := accountsOf(pid)
	if err == nil {
		err = proc.Signal(syscall.Signal(0)) // it was there all the time
	}
	for _, of := range has {
		if err == nil && of != uid {
			err = fmt.Errorf("it is account %d's", of)
		}
	}
	if err != nil {
		proc.Release()
		return nil, fmt.Errorf("process %d is not the one that called: %w", pid, err)
	}
	return proc, nil
}

// accountsOf returns the real, effective, saved and file system's account of a process
// (proc_pid_status(5)).
func accountsOf(pid int) (out []int, err error) {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return nil, err
	}
	for lines := bufio.NewScanner(bytes.NewReader(text)); lines.Scan(); {
		rest, is := bytes.CutPrefix(lines.Bytes(), []byte("Uid:"))
		if !is {
			continue
		}
		for _, field := range bytes.Fields(rest) {
			n, err := strconv.Atoi(string(field))
			if err != nil {
				return nil, err
			}
			out = append(out, n)
		}
		return out, nil
	}
	return nil, fmt.Errorf("the kernel does not say whose it is")
}
