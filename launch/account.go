package launch

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/words"
	"timegate/home"
	"timegate/inspect"
	"timegate/workstation"
	"timegate/workstation/accounts"
	"timegate/workstation/here"
)

// account is whom a program runs as.
type account struct {
	name, home, shell string
	uid, gid          int
	groups            []uint32
	vars              map[string]string // what a login sets
	age               time.Duration     // as [accounts.Account] has it
}

// self is the account that the keeper runs as.
var self = sync.OnceValue(func() account {
	a := account{name: home.Account(), uid: os.Getuid(), gid: os.Getgid(), shell: "/bin/sh"}
	a.home = home.Folder()
	a.vars = loginVars(a.uid == 0)
	if found, err := accounts.ByID(a.uid); err == nil {
		a.shell = shellOf(found)
	}
	groups, _ := os.Getgroups()
	for _, g := range groups {
		a.groups = append(a.groups, uint32(g))
	}
	return a
})

// lookup finds an account by its name, with the groups that it has at a fresh
// login.
func lookup(name string) (account, error) {
	found, err := accounts.ByName(name)
	if err != nil {
		return account{}, err
	}
	a := account{name: found.Name, home: found.Folder, shell: shellOf(found), uid: found.UID, gid: found.GID, vars: loginVars(found.UID == 0), age: found.Age}
	if a.groups, err = found.Groups(); err != nil {
		return account{}, fmt.Errorf("the groups of %q are not known: %w", name, err)
	}
	return a, nil
}

// accountOf says whom a gate's program runs as. Its error says why it must not
// be started by this keeper: what would run with other rights than its file
// says is not run at all.
func (l *Launcher) accountOf(g *gate.Gate) (account, error) {
	me := self()
	switch {
	case g.As.Elevated && me.uid != 0:
		return account{}, errors.New("it is to run with root's rights, and this keeper has none")
	case g.As.Elevated, g.As.User == "", g.As.User == me.name:
		return me, nil
	case l.Home.Scope != gate.System || me.uid != 0:
		return account{}, fmt.Errorf("it is to run as %s, which only root's keeper of the system scope may do", g.As.User)
	}
	return lookup(g.As.User)
}

// AccountName returns the name of the account that a gate's program is to run
// as, whether or not there is one.
func AccountName(g *gate.Gate) string {
	switch {
	case g.As.Elevated:
		return "root"
	case g.As.User != "":
		return g.As.User
	}
	return home.Account()
}

// shellOf returns an account's shell; where none is given, it is that of login(1).
func shellOf(a accounts.Account) string { return cmp.Or(a.Shell, "/bin/sh") }

// pathOf returns where a gate's program finds others.
func pathOf(a account, g *gate.Gate) string {
	if path := g.As.Env["PATH"]; path != "" {
		return path
	}
	return a.vars["PATH"]
}

// environment builds the variables of a run anew; nothing is inherited.
func environment(a account, g *gate.Gate, d *engine.Decision) []string {
	vars := maps.Clone(a.vars)
	maps.Copy(vars, map[string]string{
		"HOME": a.home, "USER": a.name, "LOGNAME": a.name, "SHELL": a.shell,
		"TIMEGATE_GATE": g.Name, "TIMEGATE_OPENING": d.Opening, "TIMEGATE_REASON": words.Reason(d.Reason),
		"TIMEGATE_DUE": d.Due.Time().Format(time.RFC3339), "TIMEGATE_RUN": strconv.FormatInt(d.Run, 10),
	})
	if c := d.Cause; c != nil {
		vars["TIMEGATE_EVENT"] = string(c.Event)
		for name, value := range map[string]string{"TIMEGATE_ACCOUNT": c.Account, "TIMEGATE_SUBJECT": c.Subject, "TIMEGATE_LINE": c.Text} {
			if value != "" {
				vars[name] = value
			}
		}
		if count := max(c.Count, int64(len(c.Files))); count > 0 {
			if len(c.Files) > 0 {
				count = int64(len(c.Files)) // a file that changed twice is one
			}
			vars["TIMEGATE_COUNT"] = strconv.FormatInt(count, 10)
		}
	}
	maps.Copy(vars, g.As.Env)
	out := make([]string, 0, len(vars)+1)
	for k, v := range vars {
		out = append(out, k+"="+v)
	}
	slices.Sort(out)
	return out
}

// Launcher makes programs ready to start, and tells beforehand what stands in
// the way. Its methods look into files and may block.
type Launcher struct {
	Home home.Home
	// Sessions finds desktop sessions ([workstation.Workstation]).
	Sessions func(uid int) []workstation.Session
}

// UnsafeError says why a program must not be started.
type UnsafeError struct{ Hazard engine.Hazard }

func (e *UnsafeError) Error() string {
	if e.Hazard.Remedy == "" {
		return e.Hazard.Message
	}
	return e.Hazard.Message + "; " + e.Hazard.Remedy
}

func unsafeStart(code, message string) error {
	return &UnsafeError{engine.Hazard{Code: code, Message: message}}
}

// Order says how a gate's program is started. Its error says why it is not; it
// is an [*UnsafeError] where that is for the sake of safety or rights.
func (l *Launcher) Order(g *gate.Gate, d *engine.Decision) (workstation.Order, error) {
	a, err := l.accountOf(g)
	if err != nil {
		return workstation.Order{}, unsafeStart("account", err.Error())
	}
	o := orderAs(l.Home, g, d, a)
	if g.As.Desktop {
		if err := l.joinDesktop(&o, g, a, d.Cause); err != nil {
			return o, unsafeStart("desktop", err.Error())
		}
	}
	for _, f := range l.hazards(g, o, a) {
		if f.Severity == gate.SevereError {
			return o, &UnsafeError{engine.Hazard{Code: f.Code, Message: "it is not safe: " + f.Message, Remedy: f.Remedy}}
		}
	}
	return o, nil
}

// hazards finds out who could abuse a gate of the system scope. It is asked
// before every start: where nobody could have changed anything, nothing can
// be changed in between either.
func (l *Launcher) hazards(g *gate.Gate, o workstation.Order, a account) []gate.Finding {
	if l.Home.Scope != gate.System {
		return nil
	}
	argv := append([]string{here.Program(o)}, o.Argv[1:]...)
	c := inspect.Command{Gate: g, Argv: argv, Folder: o.Folder, UID: a.uid, Home: a.home, Path: pathOf(a, g)}
	for _, name := range g.Measure {
		r, err := gate.ParseReading(name)
		if err != nil || r.Kind != gate.CommandNumber {
			continue // told of the gate's file
		}
		measure, err := CommandOf(r, a.home)
		if err != nil {
			return []gate.Finding{{Severity: gate.SevereError, Code: "value", Message: "measure: " + err.Error(), Remedy: "write command: and a command, quoted as for a shell"}}
		}
		c.Measures = append(c.Measures, measure)
	}
	found := inspect.Hazards(c)
	if windowOf(g, argv[0]) == gate.WindowTerminal {
		if terminal, err := here.Terminal(pathOf(a, g)); err == nil {
			found = append(found, inspect.EmulatorHazards(terminal[0], a.uid)...)
		}
	}
	return found
}

// Hazards finds out who could abuse a gate; in the user scope nobody gains by
// it.
func (l *Launcher) Hazards(g *gate.Gate) []gate.Finding {
	a, err := l.accountOf(g)
	if err != nil {
		remedy := "check the name; getent passwd lists the accounts"
		if l.Home.Scope != gate.System {
			remedy = "remove user from [as], or write the gate in the system scope, as root: timegate --scope system add …"
		}
		return []gate.Finding{{Severity: gate.SevereError, Code: "account", Message: err.Error(), Remedy: remedy}}
	}
	return l.hazards(g, orderAs(l.Home, g, &engine.Decision{}, a), a)
}

func orderAs(h home.Home, g *gate.Gate, d *engine.Decision, a account) workstation.Order {
	argv := slices.Clone(g.Run)
	argv[0] = home.Expand(argv[0], a.home)
	folder := a.home
	if g.Folder != "" {
		folder = home.Expand(g.Folder, a.home)
	} else if info, err := os.Stat(folder); err != nil || !info.IsDir() {
		folder = "/" // as at a login of an account without a home
	}
	o := workstation.Order{
		Argv:   argv,
		Folder: folder,
		Env:    environment(a, g, d),
		Low:    g.As.Priority == "low",
	}
	o.As = a.rights()
	if h.Scope == gate.System {
		o.Limits, _ = a.limits()
	}
	return o
}

// hindering are limits with which an agent could not do its work, where they
// are low: they are set for each program in its turn.
var hindering = []string{"as", "core", "cpu", "data", "fsize", "rss", "stack"}

// leastFiles and leastTasks are what an agent needs of open files, and of
// threads beside those that its account has already.
const (
	leastFiles = 1024
	leastTasks = 64
)

// hinders reports whether an agent could not do its work with a limit.
func hinders(l workstation.Limit) bool {
	below := func(least uint64) bool { return l.Soft != nil && *l.Soft < least || l.Hard != nil && *l.Hard < least }
	return slices.Contains(hindering, l.Item) || l.Item == "nofile" && below(leastFiles) || l.Item == "nproc" && below(leastTasks)
}

// limits returns what a login gives the account: to each program, and to its
// agent already.
func (a account) limits() (program, agent []workstation.Limit) {
	for _, l := range here.Limits(limitsFolder, a.name, a.groupNames()) {
		if hinders(l) {
			program = append(program, l)
		} else {
			agent = append(agent, l)
		}
	}
	return program, agent
}

// Rights are those of an account, as a process of its own has them.
type Rights struct {
	Name   string
	UID    int
	Home   string
	As     *workstation.Account // nil for this process's own
	Limits []workstation.Limit
	Age    time.Duration // as [accounts.Account] has it
}

// RightsOf returns the rights of an account, by the name that [gate.Gate.Account]
// gives it. Its error is an [*UnsafeError] that says why this keeper may not
// give them to a program. It may block.
func (l *Launcher) RightsOf(name string) (Rights, error) {
	a, err := l.accountOf(&gate.Gate{As: gate.As{User: name}})
	if err != nil {
		return Rights{}, unsafeStart("account", err.Error())
	}
	r := Rights{Name: a.name, UID: a.uid, Home: a.home, As: a.rights(), Age: a.age}
	if l.Home.Scope == gate.System {
		_, r.Limits = a.limits()
	}
	return r, nil
}

// OwnAccount reports whether an account, by the name that [gate.Gate.Account]
// gives it, is the one that this process runs as.
func OwnAccount(name string) bool {
	return name == "" || name == home.Account() || name == "root" && os.Getuid() == 0
}

// groupNames returns the names of the account's groups.
func (a account) groupNames() []string {
	var out []string
	for _, id := range append([]uint32{uint32(a.gid)}, a.groups...) {
		if name, err := accounts.GroupName(int(id)); err == nil {
			out = append(out, name)
		}
	}
	return out
}

// rights returns what the account may; nil where that is what the keeper may.
func (a account) rights() *workstation.Account {
	if a.uid == self().uid {
		return nil
	}
	return &workstation.Account{UID: uint32(a.uid), GID: uint32(a.gid), Groups: a.groups}
}

// TellFiles gives a program the list of what changed: a file of whole paths,
// each ended by a zero byte, which no path can contain (pathname in POSIX.1,
// 3.170); a variable names it. It lies in the account's own folder.
func TellFiles(h home.Home, d *engine.Decision, files []string, o *workstation.Order) error {
	if d.Cause == nil || d.Cause.Event != phrase.Change {
		return nil
	}
	path := h.ChangedFiles(os.Getuid(), d.Run)
	var text strings.Builder
	for _, f := range files {
		text.WriteString(f + "\x00")
	}
	if err := home.Replace(path, []byte(text.String()), 0o600); err != nil {
		return err
	}
	o.Env = append(o.Env, "TIMEGATE_FILES="+path)
	return nil
}

// Reach looks whether a program and its folder can be reached, and so may
// block. What hangs had better hang here: between fork and exec it would hang
// all other starts of this process (vfork in clone(2)).
func Reach(o *workstation.Order) error {
	if _, err := os.Stat(o.Folder); errors.Is(err, syscall.EIO) || errors.Is(err, syscall.ESTALE) {
		return err
	}
	f, err := os.OpenFile(here.Program(*o), os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil // the start itself says best what is wrong
	}
	defer f.Close()
	_, err = f.Read(make([]byte, 1))
	if errors.Is(err, syscall.EIO) || errors.Is(err, syscall.ESTALE) {
		return err
	}
	return nil
}

// TryDecision is the decision by which a gate's program runs by hand, just as the
// keeper would start it.
func TryDecision(now calendar.Instant) engine.Decision {
	return engine.Decision{Due: now, Reason: engine.Reason{Code: engine.CodeOpened}}
}

// Target returns the whole path of a gate's program, its working folder, and
// whom it runs as.
func (l *Launcher) Target(g *gate.Gate) (program, folder string, who inspect.Who) {
	a, err := l.accountOf(g)
	if err != nil {
		a = self()
	}
	o := orderAs(l.Home, g, &engine.Decision{}, a)
	return here.Program(o), o.Folder, inspect.Who{Name: a.name, UID: a.uid, Home: a.home, Groups: append([]uint32{uint32(a.gid)}, a.groups...)}
}
