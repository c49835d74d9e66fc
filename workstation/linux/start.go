//go:build linux

package linux

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"timegate/core/engine"
	"timegate/workstation"
	"timegate/workstation/cgroup"
	"timegate/workstation/rights"
)

// Starter starts real programs. Its zero value is ready.
//
// Each program gets a session of its own, no terminal, and a pipe for what it
// prints. The program holds both ends of the pipe open: if its starter goes
// away, the program is not ended by that, and the next one opens the pipe
// through the program and reads on.
type Starter struct{}

var _ workstation.Starter = Starter{}

// Start implements [workstation.Starter].
func (s Starter) Start(o workstation.Order) (workstation.Process, error) {
	r, err := s.Ready(o)
	if err != nil {
		return nil, err
	}
	return r.Start()
}

// ready is a program that is ready to start.
type ready struct {
	order   workstation.Order
	program string
	shown   *appearance
	c       *collector
	end     *pipeEnd
	stdin   *os.File
	group   *cgroup.Group
}

// heed lets what is started be ended by what ends a program at its terminal, also where
// this process was itself started without that, as by nohup(1) or in the background of a
// script (POSIX.1 XCU 2.12: their signals are ignored, which is inherited).
func heed() {
	for _, s := range []os.Signal{syscall.SIGHUP, syscall.SIGINT} {
		if signal.Ignored(s) {
			signal.Notify(make(chan os.Signal, 1), s) // with a handler, the default is inherited
		}
	}
}

// Ready implements [workstation.Starter].
func (Starter) Ready(o workstation.Order) (workstation.Ready, error) {
	heed()
	program, err := lookPath(o)
	if err != nil {
		return nil, err
	}
	r := &ready{order: o, program: program}
	if r.shown, err = arrange(&r.order, program); err != nil {
		return nil, err
	}
	read, end, err := newPipe(o.As)
	if err != nil {
		r.shown.serve(0)
		return nil, &workstation.StartError{Program: o.Argv[0], Err: err}
	}
	r.c, r.end = newCollector(o, read), end
	if r.stdin, err = os.Open(os.DevNull); err != nil {
		r.Drop()
		return nil, &workstation.StartError{Program: o.Argv[0], Err: err}
	}
	r.group = cgroup.New(o.Mark)
	return r, nil
}

// Drop implements [workstation.Ready].
func (r *ready) Drop() {
	r.shown.serve(0)
	r.group.Remove()
	r.c.pipe.Close()
	r.end.file.Close()
	if r.stdin != nil {
		r.stdin.Close()
	}
}

// Start implements [workstation.Ready].
func (r *ready) Start() (workstation.Process, error) {
	o, g := r.order, r.group
	// What this process was itself given open is for none of its programs
	// (close_range(2); before Linux 5.11 it is passed on).
	rights.Alone()
	most := ownMemory()
	proc, err := launch(r.shown, o, g, r.stdin, r.end)
	if err != nil {
		r.Drop()
		return nil, startError(o, r.program, err)
	}
	r.stdin.Close()
	r.end.file.Close()
	r.shown.serve(proc.Pid)
	p := &process{pid: proc.Pid, mark: o.Mark, group: g, note: r.shown.note}
	p.born, _ = bornOf(proc.Pid)
	go r.c.run()
	go func() {
		state, err := proc.Wait()
		p.gone()
		p.rest(o.Rest)
		g.Remove()
		exit := workstation.Exit{Lost: err != nil}
		if err == nil {
			exit = exitOf(state)
			if exit.Usage.MaxRSS <= most {
				exit.Usage.MaxRSS = 0
			}
		}
		exit.Usage.Output = r.c.ended()
		o.Done(exit)
	}()
	return p, nil
}

// ownMemory is the largest resident memory of this process so far, in bytes.
// The kernel counts it to each program that is started from it
// (setmax_mm_hiwater_rss in execve): what is not above it says nothing of the
// program.
func ownMemory() int64 {
	var ru unix.Rusage
	if unix.Getrusage(unix.RUSAGE_SELF, &ru) != nil {
		return 0
	}
	return ru.Maxrss << 10
}

// launch starts the program, in its group if that is permitted.
func launch(l *appearance, o workstation.Order, g *cgroup.Group, stdin *os.File, end *pipeEnd) (*os.Process, error) {
	attr := &os.ProcAttr{
		Dir:   o.Folder,
		Env:   surroundings(o, end),
		Files: []*os.File{stdin, end.file, end.file},
		Sys:   &syscall.SysProcAttr{Setsid: true},
	}
	if o.Attached && o.As == nil {
		attr.Files = []*os.File{os.Stdin, os.Stdout, os.Stderr}
	}
	if g != nil {
		if fd, err := g.Open(); err == nil {
			attr.Sys.UseCgroupFD, attr.Sys.CgroupFD = true, fd
			defer unix.Close(fd)
		}
	}
	attr.Sys.Credential = credential(o.As)
	start := func() (*os.Process, error) { return os.StartProcess(l.program, o.Argv, attr) }
	if o.Low || len(o.Limits) > 0 {
		start = func() (*os.Process, error) { return startWith(o, l, attr) }
	}
	proc, err := start()
	if err != nil && attr.Sys.UseCgroupFD {
		// It may be the group that was refused, and not the program.
		attr.Sys.UseCgroupFD = false
		proc, err = start()
	}
	return proc, err
}

// credential returns an account's rights; nil for one's own.
func credential(a *workstation.Account) *syscall.Credential {
	if a == nil {
		return nil
	}
	return &syscall.Credential{Uid: a.UID, Gid: a.GID, Groups: a.Groups}
}

// How a program of low priority runs: as nice as can be, and on the disk only
// when nobody else is (ioprio_set(2)).
const (
	lowest       = 19
	ioWhoProcess = 1
	ioClassIdle  = 3 << 13
)

// lower makes the thread it runs in, and what is started from it, of low
// priority.
func lower() error {
	if err := unix.Setpriority(unix.PRIO_PROCESS, 0, lowest); err != nil {
		return err
	}
	if _, _, errno := unix.Syscall(unix.SYS_IOPRIO_SET, ioWhoProcess, 0, ioClassIdle); errno != 0 && errno != unix.ENOSYS {
		return errno
	}
	return nil
}

func lookPath(o workstation.Order) (string, error) {
	name := o.Argv[0]
	if strings.Contains(name, "/") {
		if !filepath.IsAbs(name) {
			name = filepath.Join(o.Folder, name)
		}
		return name, nil
	}
	for _, v := range o.Env {
		if path, ok := strings.CutPrefix(v, "PATH="); ok {
			for _, dir := range filepath.SplitList(path) {
				full := filepath.Join(dir, name)
				if info, err := os.Stat(full); err == nil && !info.IsDir() && info.Mode()&0o111 != 0 && filepath.IsAbs(full) {
					return full, nil
				}
			}
			return "", &workstation.StartError{Program: name, Err: exec.ErrNotFound, Remedy: "write its whole path"}
		}
	}
	return "", &workstation.StartError{Program: name, Err: exec.ErrNotFound, Remedy: "write its whole path"}
}

// startError says what the kernel's word means for the file at hand.
func startError(o workstation.Order, program string, err error) error {
	e := &workstation.StartError{Program: o.Argv[0], Err: err}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		e.Err = pe.Err
	}
	info, statErr := os.Stat(program)
	switch {
	case o.Folder != "" && !isDir(o.Folder):
		e.Err = fmt.Errorf("its folder %s is not there", o.Folder)
		e.Remedy = "make the folder, or change the gate's folder"
	case errors.Is(err, fs.ErrNotExist) && statErr == nil:
		e.Remedy = "the file is there, but the interpreter that its first line names is not"
	case errors.Is(err, fs.ErrNotExist):
		e.Remedy = "check the path"
	case errors.Is(err, fs.ErrPermission) && statErr == nil && info.IsDir():
		e.Err = errors.New("it is a folder")
	case errors.Is(err, fs.ErrPermission) && statErr == nil && info.Mode()&0o111 == 0:
		e.Err = errors.New("it is not marked as executable")
		e.Remedy = "if it is what is meant to run, mark it so (chmod +x)"
	case errors.Is(err, fs.ErrPermission) && statErr == nil && rights.NoPrograms(program):
		e.Err = errors.New("nothing on its file system can be run (it is mounted with noexec)")
		e.Remedy = "put it elsewhere"
	case errors.Is(err, syscall.ENOEXEC):
		e.Remedy = `a script begins with a line such as "#!/bin/sh"`
	}
	return e
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

func exitOf(state *os.ProcessState) workstation.Exit {
	var e workstation.Exit
	if ws, ok := state.Sys().(syscall.WaitStatus); ok && ws.Signaled() {
		e.Signal = signalName(ws.Signal())
	} else {
		e.Status = state.ExitCode()
	}
	e.Usage = engine.Usage{UserMS: state.UserTime().Milliseconds(), SystemMS: state.SystemTime().Milliseconds()}
	if ru, ok := state.SysUsage().(*syscall.Rusage); ok {
		const block = 512 // bytes, whatever the file system's are (getrusage(2))
		e.Usage.MaxRSS = ru.Maxrss << 10
		e.Usage.Read, e.Usage.Written = ru.Inblock*block, ru.Oublock*block
	}
	return e
}

func signalName(s syscall.Signal) string { return strings.TrimPrefix(unix.SignalName(s), "SIG") }

// process is the leader of a program's session.
type process struct {
	pid   int
	born  int64
	mark  string
	group *cgroup.Group
	note  string

	mu   sync.Mutex     // guards what follows
	over bool           // the leader is no more
	told map[int]string // the processes that were asked to end, with what they ran; nil before any was
}

func (p *process) PID() int { return p.pid }

// Born implements [workstation.Process].
func (p *process) Born() int64 { return p.born }

// Note implements [workstation.Process].
func (p *process) Note() string { return p.note }

// gone notes that the leader is no more, and its number may be another's.
func (p *process) gone() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.over = true
}

// stopped reports whether it was asked to end.
func (p *process) stopped() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.told != nil
}

// betweenLooks is how often it is looked whether anything of a program is left.
const betweenLooks = 50 * time.Millisecond

// rest returns when nothing of a program is left whose leader has ended, if it was
// asked to end. What is left then is asked too, if it was not there to be asked
// before: a process may fork in the moment in which it is asked. Where what a program
// leaves behind when it ends by itself is to end with it, that is asked to, and killed
// after so long; 0 leaves it alone.
func (p *process) rest(patience time.Duration) {
	byItself := !p.stopped()
	if byItself && patience == 0 {
		return
	}
	for kill := time.Now().Add(patience); p.left(); time.Sleep(betweenLooks) {
		p.End("TERM")
		if byItself && time.Now().After(kill) {
			p.End("KILL")
		}
	}
}

// left reports whether a process is there that has come of the program.
func (p *process) left() bool { return len(p.group.Members()) > 0 || len(tree(0, p.mark)) > 0 }

var signals = map[string]syscall.Signal{"TERM": syscall.SIGTERM, "KILL": syscall.SIGKILL}

// End implements [workstation.Process].
func (p *process) End(name string) error {
	sig, ok := signals[name]
	if !ok {
		return fmt.Errorf("no signal %q is sent to programs", name)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	leader := p.pid
	if p.over {
		leader = 0
	}
	if p.told == nil {
		p.told = map[int]string{}
	}
	return endTree(leader, p.mark, p.group, sig, p.told)
}

// Program returns the whole path of what an order would start, or its name
// where that is not found.
func Program(o workstation.Order) string {
	if path, err := lookPath(o); err == nil {
		return path
	}
	return o.Argv[0]
}
