// Package home is where a scope keeps its files, and what its settings say.
package home

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"

	"github.com/adrg/xdg"

	"timegate/core/gate"
)

// Home is where all of one scope's state lies.
type Home struct {
	Scope  gate.Scope
	Gates  string // folder of the gate files
	State  string // folder of the journal, the outputs and the lock
	Socket string
}

// At returns the home that lies in one folder.
func At(dir string, scope gate.Scope) Home {
	return Home{Scope: scope, Gates: filepath.Join(dir, "gates"), State: dir, Socket: filepath.Join(dir, "keeper.sock")}
}

// Of returns a scope's own home: for the system scope by the Filesystem
// Hierarchy Standard, for the user scope by the XDG Base Directory
// Specification.
func Of(scope gate.Scope) Home {
	if scope == gate.System {
		return Home{Scope: scope, Gates: "/etc/timegate/gates", State: "/var/lib/timegate", Socket: "/run/timegate/keeper.sock"}
	}
	h := Home{
		Scope: scope,
		Gates: filepath.Join(xdg.ConfigHome, "timegate", "gates"),
		State: filepath.Join(xdg.StateHome, "timegate"),
	}
	// Without a login there may be no runtime folder: the socket then lies
	// with the rest.
	h.Socket = filepath.Join(h.State, "keeper.sock")
	if info, err := os.Stat(xdg.RuntimeDir); err == nil && info.IsDir() {
		h.Socket = filepath.Join(xdg.RuntimeDir, "timegate", "keeper.sock")
	}
	return h
}

// Journal returns the journal's path.
func (h Home) Journal() string { return filepath.Join(h.State, "journal.db") }

// Outputs returns the folder of what runs have printed.
func (h Home) Outputs() string { return filepath.Join(h.State, "outputs") }

// scripts is the folder of scripts that were copied, so that they stay.
func (h Home) scripts() string { return filepath.Join(h.State, "scripts") }

// told is the folder of what programs are told in files. Who they run as may
// pass through it, and sees what is theirs.
func (h Home) Told() string { return filepath.Join(h.State, "told") }

// Output returns the path of what a run has printed.
func (h Home) Output(run int64) string {
	return filepath.Join(h.Outputs(), strconv.FormatInt(run, 10)+".txt")
}

// GateFile returns the path of a gate's file.
func (h Home) GateFile(name string) string { return filepath.Join(h.Gates, name+".toml") }

// Notices is the file that keeps what people were told of.
func (h Home) Notices() string { return filepath.Join(h.State, "notices.json") }

func (h Home) lock() string { return filepath.Join(h.State, "keeper.lock") }

// An Error reports a home that cannot be used.
type Error struct {
	Path   string
	Reason string
	Remedy string
	Err    error
}

func (e *Error) Error() string { return fmt.Sprintf("%s: %s; %s", e.Path, e.Reason, e.Remedy) }
func (e *Error) Unwrap() error { return e.Err }

// maxSocketPath is the longest path that a Unix socket's address holds,
// without its closing zero byte (sockaddr_un in unix(7)).
const maxSocketPath = 107

// Prepare makes the home's folders.
func (h Home) Prepare() error {
	if len(h.Socket) > maxSocketPath {
		return &Error{Path: h.Socket, Reason: fmt.Sprintf("the socket's path has %d bytes, and the system allows %d", len(h.Socket), maxSocketPath),
			Remedy: "choose a home with a shorter path"}
	}
	pass := os.FileMode(0o700)
	if h.Scope == gate.System {
		pass = 0o711 // other accounts find there what their programs are told, and the socket
	}
	for _, dir := range []struct {
		path string
		mode os.FileMode
	}{{h.State, pass}, {h.Gates, 0o700}, {h.Outputs(), 0o700}, {h.Agents(), 0o700}, {h.Told(), pass}, {filepath.Dir(h.Socket), pass}} {
		if err := makeFolder(dir.path, dir.mode); err != nil {
			return err
		}
	}
	return nil
}

// makeFolder makes a folder, if it is not there. One that others are to pass lets
// them, whatever the file mode mask is, and also where it was closed to them before.
func makeFolder(path string, mode os.FileMode) error {
	if err := os.MkdirAll(path, mode); err != nil {
		return Wrap(path, err)
	}
	if info, err := os.Stat(path); err == nil && mode == 0o711 && info.Mode()&0o111 != 0o111 {
		if err := os.Chmod(path, info.Mode().Perm()|0o111); err != nil {
			return Wrap(path, err)
		}
	}
	return nil
}

// Folders are those that a home consists of.
func (h Home) Folders() []string {
	return []string{h.State, h.Gates, filepath.Dir(h.Socket)}
}

// Wrap says which path of a home an error is about.
func Wrap(path string, err error) error {
	e := &Error{Path: path, Reason: err.Error(), Remedy: "choose another home with --home", Err: err}
	var pe *fs.PathError
	if errors.As(err, &pe) {
		e.Path, e.Reason = pe.Path, pe.Err.Error()
	}
	if errors.Is(err, fs.ErrPermission) {
		e.Reason, e.Remedy = "it is closed to you", "choose another home with --home, or give yourself the right to it"
	}
	return e
}

// ToldTo is the folder of what an account's programs are told in files. It
// belongs to the account.
func (h Home) ToldTo(uid int) string { return filepath.Join(h.Told(), strconv.Itoa(uid)) }

// ChangedFiles is the path of the list of files that changed before a run of an
// account.
func (h Home) ChangedFiles(uid int, run int64) string {
	return filepath.Join(h.ToldTo(uid), strconv.FormatInt(run, 10)+".files")
}

// Agents is the folder of the sockets on which agents are called, closed to all
// but the keeper.
func (h Home) Agents() string { return filepath.Join(h.State, "agents") }

// AgentSocket is where the agent of an account is called.
func (h Home) AgentSocket(uid int) string {
	return filepath.Join(h.Agents(), strconv.Itoa(uid)+".sock")
}

// ID tells homes apart in names that many homes share, such as those of
// control groups.
func (h Home) ID() string {
	sum := sha256.Sum256([]byte(h.State))
	return hex.EncodeToString(sum[:6])
}

// OfOthers reports whether the home is one of the system scope that belongs to
// somebody else. What a person may see of it, its keeper tells.
func (h Home) OfOthers() bool {
	info, err := os.Stat(h.State)
	return h.Scope == gate.System && os.Getuid() != 0 && (err != nil || owner(info) != os.Getuid())
}
