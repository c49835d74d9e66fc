package startup

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/shlex"
)

// systemBusFolders hold the descriptions of what the machine's message bus starts
// (dbus-daemon(1), "standard_system_servicedirs"), the most important first.
var systemBusFolders = []string{"/etc/dbus-1/system-services", "/run/dbus-1/system-services", "/usr/local/share/dbus-1/system-services", "/usr/share/dbus-1/system-services", "/usr/lib/dbus-1/system-services", "/lib/dbus-1/system-services"}

// sessionBusFolders hold those of a person's bus ("standard_session_servicedirs").
func (l *Look) sessionBusFolders() []string {
	var out []string
	for _, dir := range append(slices.Clone(l.Data), "/usr/local/share", "/usr/share") {
		if dir = filepath.Join(dir, "dbus-1", "services"); !slices.Contains(out, dir) {
			out = append(out, dir)
		}
	}
	return out
}

// busNames returns what a message bus starts when somebody asks for its name (D-Bus
// Specification, "Message Bus Starting Services"). The file of the most important folder
// counts. Where it names a unit, the init system starts that in its place.
func (l *Look) busNames(source Source, folders []string, u *units) []Item {
	var out []Item
	var seen []string
	for _, dir := range l.folders(folders) {
		real, err := l.real(dir)
		if err != nil {
			continue
		}
		entries, _ := os.ReadDir(real)
		for _, d := range entries {
			if filepath.Ext(d.Name()) != ".service" {
				continue
			}
			it := l.busName(source, filepath.Join(dir, d.Name()), u)
			if slices.Contains(seen, it.ID) {
				continue
			}
			seen = append(seen, it.ID)
			it.Within = strings.HasPrefix(dir, "/usr/") && !strings.HasPrefix(dir, "/usr/local/") || strings.HasPrefix(dir, "/lib/")
			out = append(out, it)
		}
	}
	slices.SortFunc(out, func(a, b Item) int { return strings.Compare(a.ID, b.ID) })
	return out
}

func (l *Look) busName(source Source, path string, u *units) Item {
	file := &unit{name: filepath.Base(path), file: path}
	real, err := l.real(path)
	if err == nil {
		file.options, err = readUnit(real)
	}
	const section = "D-BUS Service"
	name := cmp.Or(file.value(section, "Name"), strings.TrimSuffix(file.name, ".service"))
	it := Item{ID: string(source) + ":" + name, Name: name, Source: source, At: AtCall, When: "Name=" + name, File: l.below(path), Command: []string{}, Enabled: true, State: On}
	if source == FromBus {
		it.Account = cmp.Or(file.value(section, "User"), "root")
	}
	if err != nil {
		it.State, it.Enabled, it.Why = Broken, false, err.Error()
		return it
	}
	argv, err := shlex.Split(file.value(section, "Exec"))
	if by := file.value(section, "SystemdService"); by != "" {
		service := u.read(u.alias(by))
		it.About = service.value("Unit", "Description")
		if service.masked || service.offs != "" {
			it.State, it.Enabled, it.Why = Off, false, by+" is switched off"
		}
		if commands, unitErr := service.commands("ExecStart"); unitErr == nil && len(commands) > 0 {
			argv, err = commands[0], nil
		}
	}
	if err != nil || len(argv) == 0 {
		it.State, it.Enabled, it.Why = Broken, false, "it says no program (Exec)"
		return it
	}
	missing := ""
	it.Command = argv
	if it.Command[0], missing = l.program(argv[0]); missing != "" && it.Enabled {
		it.State, it.Why = Missing, missing
	}
	return it
}
