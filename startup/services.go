package startup

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"timegate/desktop"
)

// unitPlaces are where the units of an init system lie (systemd.unit(5), "Unit File Load
// Path"), the most important first, and which of them are its administrator's.
type unitPlaces struct {
	kinds   map[string]Source // by what a unit's name ends in
	at      string
	own     []string // below the person's folder of configuration
	ours    []string // the administrator's
	vendors []string
	roots   []string // what is begun, and everything that it pulls in
}

var (
	machineUnits = unitPlaces{kinds: map[string]Source{".service": FromService, ".timer": FromTimer, ".socket": FromSocket, ".path": FromPath}, at: AtBoot,
		ours:    []string{"/etc/systemd/system"},
		vendors: []string{"/run/systemd/system", "/usr/local/lib/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"},
		roots:   []string{"default.target"}}
	ownUnits = unitPlaces{kinds: map[string]Source{".service": FromOwnService, ".timer": FromOwnTimer, ".socket": FromOwnSocket, ".path": FromOwnPath}, at: AtLogon, own: []string{"systemd/user"},
		ours:    []string{"/etc/systemd/user"},
		vendors: []string{"/run/systemd/user", "/usr/local/share/systemd/user", "/usr/share/systemd/user", "/usr/local/lib/systemd/user", "/usr/lib/systemd/user"},
		roots:   []string{"default.target", "graphical-session.target"}}
)

// units is what lies in the folders of units.
type units struct {
	look   *Look
	places *unitPlaces
	known  map[string]*unit    // that were read
	files  map[string]string   // a unit's first file
	pulls  map[string][]string // what is pulled in by a folder beside a unit (.wants, .requires)
	setOn  map[string]bool     // those that a folder of the administrator's pulls in
	laid   map[string][]string // further files of a unit
}

// items returns the services that start, and the units that start others.
func (u *units) items() []Item {
	var out []Item
	for _, name := range u.reached(u.places.roots) {
		source, ok := u.places.kinds[filepath.Ext(name)]
		if !ok {
			continue
		}
		it := u.item(name, source)
		it.Within = !u.setOn[name]
		out = append(out, it)
	}
	slices.SortFunc(out, func(a, b Item) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// readUnits reads the folders, and no unit yet.
func (l *Look) readUnits(places *unitPlaces) *units {
	u := &units{look: l, places: places, known: map[string]*unit{}, files: map[string]string{}, pulls: map[string][]string{}, setOn: map[string]bool{}, laid: map[string][]string{}}
	var own []string
	for _, dir := range places.own {
		if l.Own != "" {
			own = append(own, filepath.Join(l.Own, dir))
		}
	}
	own = append(own, places.ours...)
	for _, dir := range l.folders(append(slices.Clone(own), places.vendors...)) {
		real, err := l.real(dir)
		if err != nil {
			continue
		}
		entries, err := os.ReadDir(real)
		if err != nil {
			continue
		}
		for _, d := range entries {
			u.take(dir, real, d, slices.Contains(own, dir))
		}
	}
	return u
}

// take notes what one entry of a folder is.
func (u *units) take(dir, real string, d os.DirEntry, admin bool) {
	name := d.Name()
	switch ext := filepath.Ext(name); ext {
	case ".wants", ".requires":
		entries, _ := os.ReadDir(filepath.Join(real, name))
		of := strings.TrimSuffix(name, ext)
		for _, link := range entries {
			u.pulls[of] = append(u.pulls[of], link.Name())
			u.setOn[link.Name()] = u.setOn[link.Name()] || admin
		}
	case ".d":
		entries, _ := os.ReadDir(filepath.Join(real, name))
		of := strings.TrimSuffix(name, ext)
		for _, more := range entries {
			if strings.HasSuffix(more.Name(), ".conf") {
				u.laid[of] = append(u.laid[of], filepath.Join(dir, name, more.Name()))
			}
		}
	default:
		if _, there := u.files[name]; !there {
			u.files[name] = filepath.Join(dir, name)
		}
	}
}

// template returns the name of the unit that an instance is made of.
func template(name string) string {
	base, _, ok := strings.Cut(name, "@")
	if !ok {
		return name
	}
	return base + "@" + filepath.Ext(name)
}

// read reads a unit, once, with its further files in the order of their names.
func (u *units) read(name string) *unit {
	if u.known[name] == nil {
		u.known[name] = u.readFiles(name)
	}
	return u.known[name]
}

func (u *units) readFiles(name string) *unit {
	out := &unit{name: name, file: cmp.Or(u.files[name], u.files[template(name)])}
	if out.file == "" {
		return out
	}
	real, err := u.look.real(out.file)
	if to, linkErr := os.Readlink(u.look.below(out.file)); linkErr == nil && to == os.DevNull {
		out.masked = true
		return out
	}
	if err != nil {
		err = desktop.Plainly(err)
	} else {
		out.options, err = readUnit(real)
	}
	if err != nil {
		out.problem = err.Error()
		return out
	}
	out.masked = len(out.options) == 0
	more := slices.Clone(u.laid[name])
	if t := template(name); t != name {
		more = append(more, u.laid[t]...)
	}
	slices.SortStableFunc(more, func(a, b string) int { return strings.Compare(filepath.Base(a), filepath.Base(b)) })
	more = slices.CompactFunc(more, func(a, b string) bool { return filepath.Base(a) == filepath.Base(b) })
	for _, path := range more {
		real, err := u.look.real(path)
		if err != nil {
			continue
		}
		if options, err := readUnit(real); err == nil {
			out.options = append(out.options, options...)
		}
		if filepath.Base(path) == offFile {
			out.offs = path
		}
	}
	return out
}

// alias follows a unit's file that is a link to a unit of another name.
func (u *units) alias(name string) string {
	for range 8 { // a circle ends too
		file := u.files[name]
		if file == "" {
			return name
		}
		to, err := os.Readlink(u.look.below(file))
		next := filepath.Base(to)
		if err != nil || next == name || template(name) == next || filepath.Ext(next) != filepath.Ext(name) || u.files[next] == "" {
			return name
		}
		name = next
	}
	return name
}

// reached returns everything that is pulled in by units, sorted.
func (u *units) reached(roots []string) []string {
	var out []string
	seen := map[string]bool{}
	next := slices.Clone(roots)
	for len(next) > 0 {
		name := u.alias(next[0])
		u.setOn[name] = u.setOn[name] || u.setOn[next[0]]
		next = next[1:]
		if seen[name] {
			continue
		}
		seen[name] = true
		out = append(out, name)
		next = append(next, u.pulls[name]...)
		if t := template(name); t != name {
			next = append(next, u.pulls[t]...)
		}
		unit := u.read(name)
		for _, key := range []string{"Wants", "Requires", "Requisite", "BindsTo", "Upholds"} {
			for _, list := range unit.values("Unit", key) {
				if key != "Requisite" { // it starts nothing
					next = append(next, strings.Fields(list)...)
				}
			}
		}
	}
	slices.Sort(out)
	return out
}

// item describes a unit: what it starts, and when.
func (u *units) item(name string, source Source) Item {
	l, trigger := u.look, u.read(name)
	short := strings.TrimSuffix(name, filepath.Ext(name))
	it := Item{ID: string(source) + ":" + short, Name: short, About: trigger.value("Unit", "Description"), Source: source, At: u.places.at, Command: []string{}, Enabled: true, State: On, unit: trigger}
	if trigger.file != "" {
		it.File = l.below(trigger.file)
	}
	service := trigger
	if t, ok := triggers[filepath.Ext(name)]; ok {
		service = u.read(u.alias(t.starts(trigger)))
		it.At, it.When = t.at, t.when(trigger)
		if it.About == "" {
			it.About = service.value("Unit", "Description")
		}
		if it.At == AtTimes && it.When == "" && trigger.file != "" && !trigger.masked && trigger.problem == "" {
			trigger.problem = "it says no time"
		}
	}
	if u.places == &machineUnits {
		it.Account = cmp.Or(service.value("Service", "User"), "root")
	}
	u.judge(&it, trigger, service)
	return it
}

// judge says whether a unit starts its service, which may be itself.
func (u *units) judge(it *Item, trigger, service *unit) {
	commands, err := service.commands("ExecStart")
	missing := ""
	if len(commands) > 0 {
		it.Command = commands[0]
		if it.Command[0], missing = u.look.program(it.Command[0]); missing == "" {
			missing = u.look.behind(it.Command)
		}
	}
	switch {
	case trigger.offs != "":
		it.State, it.Enabled = Off, false
	case trigger.masked:
		it.State, it.Enabled, it.Why = Off, false, "masked by "+u.look.below(trigger.file)
	case trigger.file == "":
		it.State, it.Why = Missing, "it is switched on, and has no file"
	case trigger.problem != "":
		it.State, it.Enabled, it.Why = Broken, false, trigger.problem
	case service.masked, service.offs != "":
		it.State, it.Enabled, it.Why = Off, false, service.name+" is switched off"
	case service.file == "":
		it.State, it.Why = Missing, service.name+" is not there"
	case !strings.HasSuffix(service.name, ".service"): // a timer may begin a target
	case service.problem != "":
		it.State, it.Enabled, it.Why = Broken, false, service.problem
	case err != nil:
		it.State, it.Enabled, it.Why = Broken, false, err.Error()
	case len(commands) == 0:
		if service.value("Service", "Type") != "oneshot" {
			it.State, it.Enabled, it.Why = Broken, false, "it says no program (ExecStart)"
		}
	case missing != "":
		it.State, it.Why = Missing, missing
	}
}

// trigger is how a kind of unit starts another one.
type trigger struct {
	at      string
	section string
	key     string                // names the unit that is started
	shows   func(key string) bool // which keys say when
}

var triggers = map[string]trigger{
	".timer": {AtTimes, "Timer", "Unit", func(key string) bool {
		return strings.HasPrefix(key, "On") && (key == "OnCalendar" || strings.HasSuffix(key, "Sec"))
	}},
	".socket": {AtCall, "Socket", "Service", func(key string) bool { return strings.HasPrefix(key, "Listen") }},
	".path":   {AtCall, "Path", "Unit", func(key string) bool { return strings.HasPrefix(key, "Path") || key == "DirectoryNotEmpty" }},
}

// starts names the unit that is started: one of the same name, unless it is named. A
// socket with Accept starts an instance for each connection (systemd.socket(5)).
func (t trigger) starts(u *unit) string {
	base := strings.TrimSuffix(u.name, filepath.Ext(u.name))
	if named := u.value(t.section, t.key); named != "" {
		return named
	}
	if yes := strings.ToLower(u.value(t.section, "Accept")); t.section == "Socket" && slices.Contains([]string{"yes", "true", "1", "on"}, yes) {
		return base + "@.service"
	}
	return base + ".service"
}

// when returns the lines that say when a unit starts another one.
func (t trigger) when(u *unit) string {
	var out, seen []string
	for _, o := range u.options {
		if o.section != t.section || !t.shows(o.key) || slices.Contains(seen, o.key) {
			continue
		}
		seen = append(seen, o.key)
		for _, v := range u.values(o.section, o.key) {
			out = append(out, o.key+"="+v)
		}
	}
	return strings.Join(out, ", ")
}
