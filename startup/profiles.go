package startup

import (
	"os"
	"path/filepath"
	"strings"
)

// The folders whose files the profiles of the machine read.
const (
	profileParts = "/etc/profile.d"
	sessionParts = "/etc/X11/Xsession.d"
)

// profile is a file of commands that is read when somebody logs on.
type profile struct{ path, about string }

var (
	machineProfiles = []profile{
		{"/etc/profile", "Commands of each login shell"}, {"/etc/zprofile", "Commands of each login shell"}, {"/etc/zsh/zprofile", "Commands of each login shell"}, {"/etc/zlogin", "Commands of each login shell"}, {"/etc/zsh/zlogin", "Commands of each login shell"},
		{"/etc/fish/config.fish", "Commands of each shell"}, {"/etc/X11/Xsession", "Commands of each X session"}, {"/etc/xprofile", "Commands of each X session"}}
	ownProfiles = []profile{ // below the home folder
		{".profile", "Own commands of a login shell"}, {".bash_profile", "Own commands of a login shell"}, {".bash_login", "Own commands of a login shell"},
		{".zprofile", "Own commands of a login shell"}, {".zlogin", "Own commands of a login shell"}, {".config/fish/config.fish", "Own commands of a shell"},
		{".xprofile", "Own commands of an X session"}, {".xsession", "Own commands of an X session"}, {".xsessionrc", "Own commands of an X session"}, {".xinitrc", "Own commands of an X session"}}
)

// profiles returns the files of commands that shells and sessions read at logon. They
// are programs in a language of their own, so nothing is told of what is in them.
func (l *Look) profiles() []Item {
	var out []Item
	add := func(path, about string, within bool) {
		real, err := l.real(path)
		if err != nil {
			return
		}
		if info, err := os.Stat(real); err != nil || !info.Mode().IsRegular() || info.Size() == 0 {
			return
		}
		name := path
		if l.Home != "" && !within {
			name = "~/" + strings.TrimPrefix(path, l.Home+"/")
		}
		out = append(out, Item{ID: string(FromProfile) + ":" + name, Name: filepath.Base(path), About: about, Source: FromProfile, At: AtLogon,
			File: l.below(path), Command: []string{}, Enabled: true, State: On, Within: within})
	}
	if l.Home != "" {
		for _, p := range ownProfiles {
			add(filepath.Join(l.Home, p.path), p.about, false)
		}
	}
	for _, p := range machineProfiles {
		add(p.path, p.about, true)
	}
	for _, dir := range []struct{ path, ext, about string }{{profileParts, ".sh", "Commands of each login shell"}, {sessionParts, "", "Commands of each X session"}} {
		real, err := l.real(dir.path)
		if err != nil {
			continue
		}
		entries, _ := os.ReadDir(real)
		for _, d := range entries {
			if strings.HasSuffix(d.Name(), dir.ext) {
				add(filepath.Join(dir.path, d.Name()), dir.about, true)
			}
		}
	}
	return out
}
