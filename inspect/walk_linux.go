package inspect

import (
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// walk takes the way to a path as the kernel does: from part to part, links by
// what they say at the place where they lie, each by a descriptor of what is
// there. It looks at every part. It returns nil where the path leads nowhere.
func (h *hazards) walk(path, what string) *place {
	p, err := rootPlace()
	if err != nil {
		return nil
	}
	h.look(p.entry, what)
	var shared *entry // a folder that everybody may write, where what is next tells whether it matters
	defer func() {
		if shared != nil && !h.sticky {
			h.look(*shared, what) // nothing of root's or the account's lies there
		}
	}()
	parts := strings.Split(path, "/")
	for links := 0; len(parts) > 0; {
		part := parts[0]
		parts = parts[1:]
		if part == "" || part == "." {
			continue
		}
		next, err := p.child(part)
		if err != nil {
			p.close()
			return nil
		}
		if shared != nil && part != ".." && slices.Contains(h.trusted, next.entry.uid) {
			shared = nil // nobody else can take its name from it (the sticky bit in inode(7))
		}
		if e := next.entry; shared == nil && h.keepsNames(&e) {
			shared = &e
		} else if !h.look(next.entry, what) {
			p.close()
			next.close()
			return nil // whoever has what lies here may let everything hang
		}
		if next.entry.mode&fs.ModeSymlink == 0 {
			p.close()
			p = next
			continue
		}
		if links++; links > mostLinks {
			h.add("path-hazard", fmt.Sprintf("%s %s goes through too many links", what, path), "write the path of the file itself")
		}
		to, err := next.target()
		next.close()
		if err != nil || links > mostLinks {
			p.close()
			return nil
		}
		if filepath.IsAbs(to) {
			p.close()
			if p, err = rootPlace(); err != nil {
				return nil
			}
		}
		parts = slices.Concat(strings.Split(to, "/"), parts)
	}
	return p
}

func rootPlace() (*place, error) {
	fd, err := unix.Open("/", unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	return placeOf(fd, "/")
}

// child is what has a name in a folder, itself where it is a link.
func (p *place) child(name string) (*place, error) {
	fd, err := unix.Openat(int(p.file.Fd()), name, unix.O_PATH|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	at := filepath.Join(p.entry.path, name)
	if name == ".." {
		at = filepath.Dir(p.entry.path)
	}
	return placeOf(fd, at)
}

func placeOf(fd int, path string) (*place, error) {
	p := &place{file: os.NewFile(uintptr(fd), path)}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		p.close()
		return nil, err
	}
	info, err := p.file.Stat()
	if err != nil {
		p.close()
		return nil, err
	}
	p.entry = entry{path: path, mode: info.Mode(), uid: int(st.Uid), gid: int(st.Gid), foreign: foreignAt(fd, st.Dev)}
	p.entry.acl = p.entry.mode&fs.ModeSymlink == 0 && hasACL(p.reached())
	return p, nil
}

// reached is a path that leads to what was reached, whatever has its name now.
func (p *place) reached() string { return "/proc/self/fd/" + strconv.Itoa(int(p.file.Fd())) }

// target is what a link says.
func (p *place) target() (string, error) {
	buf := make([]byte, unix.PathMax)
	n, err := unix.Readlinkat(int(p.file.Fd()), "", buf)
	if err != nil {
		return "", err
	}
	return string(buf[:n]), nil
}

// headSize is how much of a file's beginning the kernel looks at for a first
// line (BINPRM_BUF_SIZE).
const headSize = 256

// head returns the beginning of a plain file, nothing where it may not be read.
func (p *place) head() []byte {
	f, err := os.OpenFile(p.reached(), os.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, headSize)
	n, _ := io.ReadFull(f, buf)
	return buf[:n]
}
