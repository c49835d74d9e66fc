//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"

	"timegate/workstation"
	"timegate/workstation/cgroup"
)

// Health looks at what a keeper depends on of this machine.
func Health(ctx context.Context) []workstation.Health {
	out := []workstation.Health{clockHealth()}
	out = append(out, busHealth(ctx)...)
	return append(out, inotifyHealth(), pidfdHealth(), pressureHealth(), cgroupHealth(), windowHealth())
}

// clockHealth asks the kernel whether something keeps the clock right (adjtimex(2)).
func clockHealth() workstation.Health {
	const years = 2020
	h := workstation.Health{Name: "clock", State: workstation.HealthOK, What: "something keeps it right"}
	var t unix.Timex
	state, err := unix.Adjtimex(&t)
	switch {
	case time.Now().Year() < years:
		h.State, h.What, h.Remedy = workstation.HealthWrong, "it says "+time.Now().Format(time.DateOnly)+": moments come by it", "set the clock"
	case err != nil:
		h.State, h.What = workstation.HealthNote, "whether something keeps it right is not known: "+err.Error()
	case state == unix.TIME_ERROR || t.Status&unix.STA_UNSYNC != 0:
		h.State, h.What, h.Remedy = workstation.HealthNote, "nothing keeps it right: moments come by it, early or late", "let a time service run"
	}
	return h
}

// busHealth looks for the message bus and for the login manager on it.
func busHealth(ctx context.Context) []workstation.Health {
	ctx, enough := context.WithTimeout(ctx, 5*time.Second)
	defer enough()
	bus := workstation.Health{Name: "message bus", State: workstation.HealthOK, What: "it answers"}
	login := workstation.Health{Name: "login manager", State: workstation.HealthOK, What: "it tells who logs on, and when the machine sleeps"}
	missing := func(h *workstation.Health, err error, what, remedy string) {
		h.State, h.What, h.Remedy = workstation.HealthNote, err.Error()+": "+what, remedy
	}
	conn, err := dbus.Connect(busAddress(), dbus.WithContext(ctx))
	if err != nil {
		missing(&bus, err, "logons, sleep and power are not told", "let the system's D-Bus run")
		return []workstation.Health{bus}
	}
	defer conn.Close()
	var there bool
	err = conn.BusObject().CallWithContext(ctx, "org.freedesktop.DBus.NameHasOwner", 0, "org.freedesktop.login1").Store(&there)
	if err == nil && !there {
		err = conn.BusObject().CallWithContext(ctx, "org.freedesktop.DBus.StartServiceByName", 0, "org.freedesktop.login1", uint32(0)).Err
	}
	if err != nil {
		missing(&login, err, "logons, logoffs, locks and sleep are not told", "let org.freedesktop.login1 run")
	}
	return []workstation.Health{bus, login}
}

// inotifyHealth looks how many folders can be watched (inotify(7)).
func inotifyHealth() workstation.Health {
	const least = 8192
	h := workstation.Health{Name: "file events", State: workstation.HealthOK}
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC)
	if err != nil {
		h.State, h.What, h.Remedy = workstation.HealthWrong, "no inotify instance: "+err.Error()+": changed gates are seen some seconds later, and files that gates wait for are not", "raise fs.inotify.max_user_instances (sysctl)"
		return h
	}
	unix.Close(fd)
	n := number("/proc/sys/fs/inotify/max_user_watches")
	if h.What = fmt.Sprintf("%d folders can be watched", n); n < least {
		h.State, h.Remedy = workstation.HealthNote, "raise fs.inotify.max_user_watches (sysctl) if gates watch large folders"
	}
	return h
}

// number reads a number from a file of the kernel; 0 where there is none.
func number(path string) int {
	text, err := os.ReadFile(path)
	if err != nil {
		return 0
	}
	n, _ := strconv.Atoi(strings.TrimSpace(string(text)))
	return n
}

// pidfdHealth looks whether processes can be held on to (pidfd_open(2)).
func pidfdHealth() workstation.Health {
	h := workstation.Health{Name: "processes", State: workstation.HealthOK, What: "they can be held on to (pidfd)"}
	fd, err := unix.PidfdOpen(os.Getpid(), 0)
	if err != nil {
		h.State, h.What, h.Remedy = workstation.HealthWrong, "they cannot be held on to: "+err.Error(), "a kernel from 5.4 on is needed"
		return h
	}
	unix.Close(fd)
	return h
}

func pressureHealth() workstation.Health {
	h := workstation.Health{Name: "pressure", State: workstation.HealthOK, What: "the kernel tells how long work waits"}
	if _, err := os.ReadFile("/proc/pressure/cpu"); err != nil {
		h.State, h.What, h.Remedy = workstation.HealthNote, "how long work waits is not told: [pace] calm holds nothing back, and how long a boot takes is not known", "boot the kernel with psi=1"
	}
	return h
}

func cgroupHealth() workstation.Health {
	h := workstation.Health{Name: "control groups", State: workstation.HealthOK, What: "version 2 is there: nothing that comes of a run can slip away"}
	if !cgroup.Contained() {
		h.State, h.What = workstation.HealthNote, "version 2 is not there, or not for this account to divide: the programs of a run are told apart by their parents alone"
	}
	return h
}

// windowHealth looks whether displays can be passed on where X servers have their sockets.
func windowHealth() workstation.Health {
	const folder = "/tmp/.X11-unix"
	h := workstation.Health{Name: "windows", State: workstation.HealthOK, What: "programs can run without a window, or with a minimised one"}
	info, err := os.Stat(folder)
	switch {
	case err != nil:
		h.State, h.What = workstation.HealthNote, folder+" is not there: no X server runs, and window = \"none\" and \"minimised\" have no use"
	case info.Mode()&os.ModeSticky == 0:
		h.State, h.What, h.Remedy = workstation.HealthWrong, folder+" is not sticky: whoever likes can put a display in the place of another's", "chmod 1777 "+folder
	}
	return h
}
