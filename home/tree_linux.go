package home

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"timegate/workstation/accounts"
)

// mostLinks bounds how many links are followed (as path_resolution(7)).
const mostLinks = 40

// openFolder opens a folder by its whole path, part by part, and makes what is not there.
// With root's rights only links of root's are followed. Each part is opened in the one
// before, so that nothing can be put in its place meanwhile.
func openFolder(path string) (*os.Root, error) {
	at, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	defer func() { unix.Close(at) }()
	parts, links := strings.Split(strings.Trim(filepath.Clean(path), "/"), "/"), 0
	done := "/"
	for len(parts) > 0 {
		part := parts[0]
		parts = parts[1:]
		if part == "" || part == "." {
			continue
		}
		here := filepath.Join(done, part)
		next, err := unix.Openat(at, part, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if errors.Is(err, unix.ENOENT) {
			if err = unix.Mkdirat(at, part, 0o755); err == nil {
				next, err = unix.Openat(at, part, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
			}
		}
		if err != nil {
			return nil, named(here, err)
		}
		var st unix.Stat_t
		if err := unix.Fstat(next, &st); err != nil {
			unix.Close(next)
			return nil, named(here, err)
		}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFDIR:
			unix.Close(at)
			at, done = next, here
			continue
		case unix.S_IFLNK:
			target, err := linkTarget(next)
			unix.Close(next)
			if links++; links > mostLinks {
				err = unix.ELOOP
			}
			if err != nil {
				return nil, named(here, err)
			}
			if os.Geteuid() == 0 {
				if owner := madeBy(at, &st); owner != 0 {
					return nil, linkError(here, nameOf(owner))
				}
			}
			if filepath.IsAbs(target) {
				root, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
				if err != nil {
					return nil, err
				}
				unix.Close(at)
				at, done = root, "/"
			}
			parts = append(strings.Split(target, "/"), parts...)
		default:
			unix.Close(next)
			return nil, named(here, unix.ENOTDIR)
		}
	}
	return os.OpenRoot(fmt.Sprintf("/proc/self/fd/%d", at))
}

// madeBy returns who could have put a link into a folder, 0 where that is root alone.
func madeBy(folder int, link *unix.Stat_t) int {
	var st unix.Stat_t
	const others = unix.S_IWGRP | unix.S_IWOTH
	switch err := unix.Fstat(folder, &st); {
	case link.Uid != 0:
		return int(link.Uid)
	case err != nil || st.Uid != 0:
		return int(st.Uid)
	case st.Mode&others != 0 && st.Mode&unix.S_ISVTX == 0:
		return nobody
	}
	return 0
}

// linkTarget reads a link that is open (readlinkat(2), with an empty path).
func linkTarget(link int) (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(link, "", buf)
	return string(buf[:max(n, 0)]), err
}

func nameOf(uid int) string {
	if uid == nobody {
		return "somebody else"
	}
	if name := accounts.NameOf(uid); name != "" {
		return name
	}
	return fmt.Sprintf("account %d", uid)
}
