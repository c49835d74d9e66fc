//go:build linux

package linux

import (
	"os"
	"syscall"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"timegate/workstation"
)

// pidfdInfo is the kernel's struct pidfd_info (linux/pidfd.h, since 6.13; the
// exit status since 6.15).
type pidfdInfo struct {
	mask     uint64
	cgroup   uint64
	ids      [11]uint32
	exitCode int32
}

const (
	pidfdInfoExit = 1 << 3
	// _IOWR(0xFF, 11, struct pidfd_info) with the size of the first version.
	pidfdGetInfo = 3<<30 | unsafe.Sizeof(pidfdInfo{})<<16 | 0xff<<8 | 11
)

// exitByHandle asks the kernel how a process ended that is not our child. It tells that
// from when on the parent has been told, which may be seconds later. An older kernel does
// not tell at all.
func exitByHandle(handle *os.File) workstation.Exit {
	const patience, pause = 10 * time.Second, 20 * time.Millisecond
	raw, err := handle.SyscallConn()
	if err != nil {
		return workstation.Exit{Lost: true}
	}
	info := pidfdInfo{}
	for late := time.Now().Add(patience); ; time.Sleep(pause) {
		info = pidfdInfo{mask: pidfdInfoExit}
		var errno syscall.Errno
		raw.Control(func(fd uintptr) {
			_, _, errno = unix.Syscall(unix.SYS_IOCTL, fd, uintptr(pidfdGetInfo), uintptr(unsafe.Pointer(&info)))
		})
		if errno != 0 || info.mask&pidfdInfoExit == 0 && time.Now().After(late) {
			return workstation.Exit{Lost: true}
		}
		if info.mask&pidfdInfoExit != 0 {
			break
		}
	}
	ws := syscall.WaitStatus(info.exitCode)
	if ws.Signaled() {
		return workstation.Exit{Signal: signalName(ws.Signal())}
	}
	return workstation.Exit{Status: ws.ExitStatus()}
}
