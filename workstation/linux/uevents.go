//go:build linux

package linux

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// uevent is what the kernel tells of a device: ACTION, DEVPATH, SUBSYSTEM and
// more (lib/kobject_uevent.c in the kernel).
type uevent map[string]string

// uevents listens to the kernel. Its goroutine ends when it is closed.
type uevents struct{ socket *os.File }

// kernelGroup is the multicast group of the kernel's own messages.
const kernelGroup = 1

// listenUevents calls heard for each message, and lost where some had to be
// dropped because they were not read in time.
func listenUevents(heard func(uevent), lost func()) (*uevents, error) {
	socket, err := netlink(unix.NETLINK_KOBJECT_UEVENT, kernelGroup)
	if err != nil {
		return nil, fmt.Errorf("the kernel's messages of devices cannot be heard: %w", err)
	}
	go receive(socket, func(data []byte) {
		if ev := parseUevent(data); ev != nil {
			heard(ev)
		}
	}, lost)
	return &uevents{socket: socket}, nil
}

func (u *uevents) close() { u.socket.Close() }

// netlink opens a socket on which the kernel tells of changes.
func netlink(family int, groups uint32) (*os.File, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK, family)
	if err != nil {
		return nil, err
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: groups}); err != nil {
		unix.Close(fd)
		return nil, err
	}
	return os.NewFile(uintptr(fd), "netlink"), nil
}

// receive passes the kernel's datagrams on until the socket is closed. What
// other processes send is dropped.
func receive(socket *os.File, heard func([]byte), lost func()) {
	raw, err := socket.SyscallConn()
	if err != nil {
		return
	}
	buf := make([]byte, 64<<10)
	for {
		var n int
		var from unix.Sockaddr
		var err error
		if closed := raw.Read(func(fd uintptr) bool {
			n, from, err = unix.Recvfrom(int(fd), buf, 0)
			return !errors.Is(err, unix.EAGAIN)
		}); closed != nil {
			return
		}
		sender, ok := from.(*unix.SockaddrNetlink)
		switch {
		case errors.Is(err, unix.ENOBUFS):
			lost()
		case err != nil && !errors.Is(err, unix.EINTR):
			return
		case ok && sender.Pid == 0 && n > 0:
			heard(buf[:n])
		}
	}
}

// parseUevent reads "ACTION@DEVPATH", a zero byte, and KEY=VALUE pairs that
// end with one each.
func parseUevent(data []byte) uevent {
	head, rest, ok := bytes.Cut(data, []byte{0})
	if !ok || bytes.IndexByte(head, '@') < 0 {
		return nil
	}
	ev := uevent{}
	for pair := range bytes.SplitSeq(rest, []byte{0}) {
		if key, value, ok := strings.Cut(string(pair), "="); ok {
			ev[key] = value
		}
	}
	return ev
}

// deviceNames are the names by which a pattern may mean a new device: the
// kernel's, its node's below /dev, and what it calls itself.
func deviceNames(ev uevent, sysfs string) []string {
	names := []string{filepath.Base(ev["DEVPATH"])}
	if node := ev["DEVNAME"]; node != "" && node != names[0] {
		names = append(names, strings.TrimPrefix(node, "/dev/"))
	}
	own := func(name string) string {
		b, err := os.ReadFile(filepath.Join(sysfs, ev["DEVPATH"], name))
		if err != nil {
			return ""
		}
		return strings.TrimSpace(string(b))
	}
	if product := own("product"); product != "" { // USB: its descriptor's texts
		names = append(names, product, strings.TrimSpace(own("manufacturer")+" "+product))
	}
	return names
}
