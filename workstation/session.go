package workstation

import (
	"path/filepath"
	"strings"
)

// A Session is a desktop session that somebody is logged on to.
type Session struct {
	UID  int
	Vars []string // NAME=value, sorted
	HasX bool     // it has an X server, be it beside Wayland
	// InFront tells that it is the one that is seen, of several at one seat; where nobody tells
	// that, none is.
	InFront bool
}

// Display returns the variables by which a program reaches the session's
// display and nothing else. With more rights than the person's it must not be
// told more: the address of a message bus, for one, may name a program to run.
func (s Session) Display() []string {
	var out []string
	runtimeDir := ""
	for _, v := range s.Vars {
		if dir, ok := strings.CutPrefix(v, "XDG_RUNTIME_DIR="); ok {
			runtimeDir = dir
		}
	}
	for _, v := range s.Vars {
		name, value, _ := strings.Cut(v, "=")
		switch {
		case name == "WAYLAND_DISPLAY" && !filepath.IsAbs(value):
			out = append(out, name+"="+filepath.Join(runtimeDir, value))
		case name == "WAYLAND_DISPLAY", name == "DISPLAY", name == "XAUTHORITY":
			out = append(out, v)
		}
	}
	return out
}
