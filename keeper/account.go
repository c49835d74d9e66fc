package keeper

import (
	"errors"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/workstation"
	"timegate/workstation/linux"
)

// account is whom a program runs as.
type account struct {
	name, home, shell string
	uid               int
}

// self is the account that the keeper runs as.
var self = sync.OnceValue(func() account {
	a := account{uid: os.Getuid(), shell: "/bin/sh"}
	if u, err := user.LookupId(strconv.Itoa(a.uid)); err == nil {
		a.name, a.home = u.Username, u.HomeDir
	}
	if a.home == "" {
		a.home = os.Getenv("HOME")
	}
	if a.home == "" {
		a.home = "/"
	}
	a.shell = shellOf(a.name)
	return a
})

// shellOf reads an account's shell from /etc/passwd, which os/user leaves out.
func shellOf(name string) string {
	data, _ := os.ReadFile("/etc/passwd")
	for line := range strings.Lines(string(data)) {
		if f := strings.Split(strings.TrimSpace(line), ":"); len(f) == 7 && f[0] == name && f[6] != "" {
			return f[6]
		}
	}
	return "/bin/sh"
}

// environment builds the variables of a run anew; nothing is inherited.
func environment(a account, g *gate.Gate, d *engine.Decision) []string {
	path := "/usr/local/bin:/usr/bin:/bin"
	if a.uid == 0 {
		path = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
	}
	vars := map[string]string{
		"HOME": a.home, "USER": a.name, "LOGNAME": a.name, "SHELL": a.shell, "PATH": path, "LANG": "C.UTF-8",
		"TIMEGATE_GATE": g.Name, "TIMEGATE_OPENING": d.Opening, "TIMEGATE_REASON": d.Reason,
		"TIMEGATE_DUE": d.Due.Time().Format(time.RFC3339), "TIMEGATE_RUN": strconv.FormatInt(d.Run, 10),
	}
	if c := d.Cause; c != nil {
		vars["TIMEGATE_EVENT"] = string(c.Event)
		for name, value := range map[string]string{"TIMEGATE_ACCOUNT": c.Account, "TIMEGATE_SUBJECT": c.Subject, "TIMEGATE_LINE": c.Text} {
			if value != "" {
				vars[name] = value
			}
		}
		if c.Count > 0 {
			vars["TIMEGATE_COUNT"] = strconv.FormatInt(c.Count, 10)
		}
	}
	for k, v := range g.As.Env {
		vars[k] = v
	}
	out := make([]string, 0, len(vars)+1)
	for k, v := range vars {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return out
}

// order says how a gate's program is started.
func order(h Home, g *gate.Gate, d *engine.Decision) workstation.Order {
	a := self()
	argv := slices.Clone(g.Run)
	argv[0] = expandHome(argv[0])
	folder := a.home
	if g.Folder != "" {
		folder = expandHome(g.Folder)
	} else if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		folder = "/" // as at a login of an account without a home
	}
	return workstation.Order{
		Run:    d.Run,
		Mark:   mark(h, d.Run),
		Argv:   argv,
		Folder: folder,
		Env:    environment(a, g, d),
		Output: workstation.Output{Path: h.Output(d.Run), Keep: g.Limits.Output},
	}
}

// changedFiles is the path of the list of files that changed before a run.
func (h Home) changedFiles(run int64) string {
	return filepath.Join(h.Outputs(), strconv.FormatInt(run, 10)+".files")
}

// tellFiles gives a program the list of what changed: a file with one path a
// line, named by a variable.
func tellFiles(h Home, d *engine.Decision, o *workstation.Order) error {
	if d.Cause == nil || d.Cause.Event != phrase.Change {
		return nil
	}
	path := h.changedFiles(d.Run)
	var text strings.Builder
	for _, f := range d.Cause.Files {
		text.WriteString(f + "\n")
	}
	if err := os.WriteFile(path, []byte(text.String()), 0o600); err != nil {
		return err
	}
	o.Env = append(o.Env, "TIMEGATE_FILES="+path)
	return nil
}

// refusal says why a gate must not be started by this keeper, or is nil. What
// would run with other rights than its file says is not run at all.
func refusal(g *gate.Gate) error {
	switch {
	case g.As.Elevated && self().uid != 0:
		return errors.New("it is to run with root's rights, and this keeper has none")
	case g.As.User != "" && g.As.User != self().name:
		return fmt.Errorf("it is to run as %s, which is not in force yet", g.As.User)
	case g.As.Desktop:
		return errors.New("it is to run on a desktop, which is not in force yet")
	}
	return nil
}

// Try returns the order for running a gate's program by hand, just as the
// keeper would.
func Try(h Home, g *gate.Gate, now calendar.Instant) (workstation.Order, error) {
	if err := refusal(g); err != nil {
		return workstation.Order{}, err
	}
	o := order(h, g, &engine.Decision{Due: now, Reason: "tried by hand"})
	return o, nil
}

// SelfName returns the name of the account that this process runs as.
func SelfName() string { return self().name }

// TargetOf returns the whole path of a gate's program and its working folder.
func TargetOf(g *gate.Gate) (program, folder string) {
	o := order(Home{}, g, &engine.Decision{})
	return linux.Program(o), o.Folder
}
