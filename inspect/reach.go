package inspect

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"timegate/core/gate"
)

// Who is whom a program runs as.
type Who struct {
	Name   string
	UID    int
	Groups []uint32 // all of them, the first group included
	Home   string   // its home folder
}

// mostLinks is how many links the kernel follows on one way (path_resolution(7)).
const mostLinks = 40

// Wants of a file, as bits of its mode (inode(7)).
const (
	toRead  = 4
	toEnter = 1 // a folder
	toRun   = 1 // a program
)

// may reports whether an account has a right to a file, as its mode says.
// Where an access control list says more than that, it is taken to allow it.
func (w *Who) may(path string, info fs.FileInfo, right fs.FileMode) bool {
	uid, gid, ok := ownersOf(info)
	if !ok || hasACL(path) {
		return true
	}
	mode := info.Mode().Perm()
	switch {
	case w.UID == 0:
		return right&toRun == 0 || info.IsDir() || mode&0o111 != 0
	case uid == w.UID:
		mode >>= 6
	case slices.Contains(w.Groups, uint32(gid)):
		mode >>= 3
	}
	return mode&right == right
}

// widen is a remedy that widens rights on what a path leads to. Where somebody else's link
// lies on the way, that one says what is widened, and there is no such remedy.
func widen(path, remedy string) string {
	if link, owner := linkOfOthers(path); link != "" {
		return fmt.Sprintf("%s is a link of %s's, who says where it leads; write the path of what is meant itself, or choose another", gate.CommandLine(link), accountName(owner))
	}
	return remedy
}

// linkOfOthers returns the first link on the way to a path that neither root nor whoever
// asks has made, and whose it is.
func linkOfOthers(path string) (link string, owner int) {
	parts, at := strings.Split(path, "/"), "/" // ".." goes up from where a link has led
	for links := 0; len(parts) > 0; {
		next := filepath.Join(at, parts[0])
		parts = parts[1:]
		info, err := os.Lstat(next)
		if err != nil {
			return "", 0
		}
		if info.Mode()&fs.ModeSymlink == 0 {
			at = next
			continue
		}
		if uid, _, ok := ownersOf(info); ok && uid != 0 && uid != os.Getuid() {
			return next, uid
		}
		to, err := os.Readlink(next)
		if links++; err != nil || links > mostLinks {
			return "", 0
		}
		if filepath.IsAbs(to) {
			at = "/"
		}
		parts = append(strings.Split(to, "/"), parts...)
	}
	return "", 0
}

// closed returns the first folder on the way to a path that an account cannot
// pass, or "".
func (w *Who) closed(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return ""
	}
	at := "/"
	for part := range strings.SplitSeq(strings.Trim(filepath.Dir(real), "/"), "/") {
		at = filepath.Join(at, part)
		if info, err := os.Stat(at); err == nil && !w.may(at, info, toEnter) {
			return at
		}
	}
	return ""
}

// reach finds out whether an account can run a program that is there, and
// enter its working folder.
func (w *Who) reach(program, folder string) []gate.Finding {
	var out []gate.Finding
	add := func(code, what, path string, right fs.FileMode, does, letter string) {
		info, err := os.Stat(path)
		if err != nil || info.IsDir() != (code == "folder-closed") || info.Mode()&0o111 == 0 {
			return // told otherwise
		}
		at := w.closed(path)
		if at == "" && !w.may(path, info, right) {
			at = path
		} else if at != "" {
			letter = "x"
		}
		if at != "" {
			out = append(out, gate.Finding{Severity: gate.SevereError, Code: code,
				Message: fmt.Sprintf("%s cannot %s %s: %s is closed to them", w.Name, does, what, at),
				Remedy:  widen(path, fmt.Sprintf("setfacl -m u:%s:%s %s, or choose another", w.Name, letter, gate.CommandLine(at)))})
		}
	}
	right, letter := fs.FileMode(toRun), "x"
	if interpreterOf(program) != "" {
		right, letter = toRun|toRead, "rx"
	}
	add("target-closed", "the program", program, right, "run", letter)
	add("folder-closed", "the working folder", folder, toEnter, "enter", "x")
	return out
}
