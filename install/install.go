// Package install is how a keeper begins by itself.
package install

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/adrg/xdg"

	"timegate/core/gate"
	"timegate/desktop"
	"timegate/home"
	"timegate/inspect"
)

// Piece is a file, folder or link that an installation consists of.
type Piece struct {
	Path string
	Mode fs.FileMode // with fs.ModeDir for a folder
	Text string      // of a file
	Link string      // what a link leads to
}

// InstallError says why a keeper cannot be installed.
type InstallError struct{ Problem, Remedy string }

func (e *InstallError) Error() string { return e.Problem + "; " + e.Remedy }

// Installation lists what lets a scope's keeper begin by itself: in the system
// scope with the machine, through its init system; in the user scope when the
// person logs on to a desktop. It lies below root, "/" for this machine.
// program is the whole path of timegate. own tells that the home is in one folder,
// which a person's keeper can have.
func Installation(h home.Home, own bool, root, program string) ([]Piece, error) {
	scope := h.Scope
	below := func(path string) string { return filepath.Join(root, path) }
	if scope == gate.User {
		options := "--scope user"
		if own {
			options = "--home " + desktop.Quote(h.State)
		}
		entry := below(filepath.Join(xdg.ConfigHome, "autostart", entryName(h, own)))
		return []Piece{
			{Path: filepath.Dir(entry), Mode: fs.ModeDir | 0o755},
			{Path: entry, Mode: 0o644, Text: autostart(program, options)},
		}, nil
	}
	if root == "/" {
		if info, err := os.Stat("/run/systemd/system"); err != nil || !info.IsDir() {
			return nil, &InstallError{"the machine was not started by an init system that is known here (systemd)",
				fmt.Sprintf("let yours start %q as root, or write the files for another machine with --root DIR", program+" --scope system keeper run")}
		}
	}
	if found := inspect.WritableByOthers(program); root == "/" && len(found) > 0 { // it will have root's rights
		return nil, &InstallError{strings.Replace(found[0].Message, "the gate file", "the program", 1), found[0].Remedy}
	}
	if own {
		return nil, &InstallError{"the service of the system scope keeps its own places, and no other home", "leave --home and TIMEGATE_HOME out"}
	}
	const units = "/etc/systemd/system"
	return append(places(below),
		Piece{Path: below(units + "/multi-user.target.wants"), Mode: fs.ModeDir | 0o755},
		Piece{Path: below(units + "/timegate.service"), Mode: 0o644, Text: service(program, written)},
		Piece{Path: below(units + "/multi-user.target.wants/timegate.service"), Mode: fs.ModeSymlink, Link: "../timegate.service"}), nil
}

// places are the folders of the system scope.
func places(below func(string) string) []Piece {
	return []Piece{
		{Path: below("/etc/timegate/gates"), Mode: fs.ModeDir | 0o755},
		{Path: below("/var/lib/timegate"), Mode: fs.ModeDir | 0o711},
	}
}

// Packaged lists what a distribution's package of the program holds, the program itself
// apart: the package's own scripts switch the service on.
func Packaged(root string) []Piece {
	below := func(path string) string { return filepath.Join(root, path) }
	const units = "/usr/lib/systemd/system"
	return append(places(below),
		Piece{Path: below(units), Mode: fs.ModeDir | 0o755},
		Piece{Path: below(units + "/timegate.service"), Mode: 0o644, Text: service("/usr/bin/timegate", "Part of the package timegate.")})
}

// entryName is the name of a person's autostart entry for a home.
func entryName(h home.Home, own bool) string {
	if own {
		return "timegate-keeper-" + h.ID() + ".desktop"
	}
	return "timegate-keeper.desktop"
}

// BeginsByItself reports whether the keeper of a home is switched on to begin by itself: with
// the machine, or when its person logs on to a desktop.
func BeginsByItself(h home.Home, own bool) bool {
	if h.Scope == gate.User {
		text, err := os.ReadFile(filepath.Join(xdg.ConfigHome, "autostart", entryName(h, own)))
		return err == nil && !strings.Contains("\n"+string(text), "\nHidden=true")
	}
	links, err := filepath.Glob("/etc/systemd/system/*.wants/timegate.service")
	return err == nil && !own && len(links) > 0
}

// service is the unit of the system's keeper (systemd.unit(5)). When it ends,
// programs go on, and the next keeper watches them further.
func service(program, origin string) string {
	quoted := `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "%", "%%").Replace(program) + `"`
	return "# " + origin + `
[Unit]
Description=Time Gate: starts programs at boot, at times and on events
After=dbus.service

[Service]
# It says when it answers, and from then on that its loop turns.
Type=notify
NotifyAccess=main
WatchdogSec=2min
ExecStart=` + quoted + ` --scope system keeper run
Restart=on-failure
# Agents and programs go on without it, and the next one takes them up; so they
# do when one of them uses up the memory.
KillMode=process
OOMPolicy=continue
# Each run has a control group of its own below this one.
Delegate=yes
# The folder of the socket stays when it begins anew.
RuntimeDirectory=timegate
RuntimeDirectoryPreserve=restart
# Where its state lies, closed to all but for what is theirs.
StateDirectory=timegate
StateDirectoryMode=0711
# It waits for many at once; programs get the limits of their accounts.
LimitNOFILE=1024:524288
TasksMax=infinity
# Keys of root's session are nobody else's.
KeyringMode=private
# What else can be closed to a service would be closed to every program that it
# starts: they are to do what they do at a login.

[Install]
WantedBy=multi-user.target
`
}

// autostart is the entry by which a desktop starts a person's keeper (Desktop
// Application Autostart Specification).
func autostart(program, options string) string {
	e := desktop.Entry{Name: "Time Gate keeper", Comment: "Starts programs at logon, at times and on events",
		Exec: desktop.Quote(program) + " " + options + " keeper run", NoDisplay: true}
	return e.Text(written)
}

// written is the line by which a file of an installation tells where it came
// from.
const written = `Written by "timegate keeper install"; removed by "timegate keeper uninstall".`

// Installed reports whether a piece is in its place already, just so.
func (p *Piece) Installed() bool {
	info, err := os.Lstat(p.Path)
	switch {
	case err != nil:
		return false
	case p.Mode.IsDir():
		return info.IsDir()
	case p.Link != "":
		to, err := os.Readlink(p.Path)
		return err == nil && to == p.Link
	}
	text, err := os.ReadFile(p.Path)
	return err == nil && info.Mode() == p.Mode && string(text) == p.Text
}

// Write puts a piece in its place.
func (p *Piece) Write() error {
	switch {
	case p.Mode.IsDir():
		if err := os.MkdirAll(p.Path, p.Mode.Perm()); err != nil {
			return home.Wrap(p.Path, err)
		}
		return nil
	case p.Link != "":
		if err := home.Relink(p.Link, p.Path); err != nil {
			return home.Wrap(p.Path, err)
		}
		return nil
	}
	if err := home.Replace(p.Path, []byte(p.Text), p.Mode.Perm()); err != nil {
		return home.Wrap(p.Path, err)
	}
	return nil
}

// There reports whether there is something to be removed.
func (p *Piece) There() bool {
	_, err := os.Lstat(p.Path)
	return err == nil && !p.Mode.IsDir()
}

// Remove takes a file or link away; it reports whether there was one. Folders
// stay.
func (p *Piece) Remove() (bool, error) {
	if !p.There() {
		return false, nil
	}
	err := os.Remove(p.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil {
		return false, home.Wrap(p.Path, err)
	}
	return true, nil
}
