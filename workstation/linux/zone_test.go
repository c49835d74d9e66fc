//go:build linux

package linux_test

import (
	"errors"
	"os"
	"syscall"
	"testing"
	"time"

	"timegate/workstation/wstest"
)

// TestZoneChanges: a machine that is given another zone tells of it.
func TestZoneChanges(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	os.Unsetenv("TZ")
	wstest.Do(t, "mount", "--make-rprivate", "/")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/mnt")
	if err := errors.Join(os.Mkdir("/mnt/upper", 0o755), os.Mkdir("/mnt/work", 0o755)); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "-t", "overlay", "overlay", "-o", "lowerdir=/etc,upperdir=/mnt/upper,workdir=/mnt/work", "/etc")
	move := func(zone string) {
		t.Helper()
		os.Remove("/etc/localtime.new")
		if err := errors.Join(os.Symlink("/usr/share/zoneinfo/"+zone, "/etc/localtime.new"), os.Rename("/etc/localtime.new", "/etc/localtime")); err != nil {
			t.Fatal(err)
		}
	}
	m := machine(t)
	<-m.Watch(wantsOf(t, "unlock"))
	for _, zone := range []string{"Asia/Kolkata", "Europe/London"} {
		wstest.Await(t, "the watch", func() bool { // it begins a moment after the machine
			move("Etc/UTC")
			move(zone)
			select {
			case n := <-m.Notices():
				return n.Zone && m.Zone().Name() == zone
			case <-time.After(100 * time.Millisecond):
				return m.Zone().Name() == zone
			}
		})
	}
}
