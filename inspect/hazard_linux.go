package inspect

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"
)

// hasACL reports whether a file has an access control list beyond its mode
// (acl(5)).
func hasACL(path string) bool {
	n, err := unix.Getxattr(path, "system.posix_acl_access", nil)
	return err == nil && n > 0
}

// foreignAt names a file system that others can change from outside (the
// numbers are those of statfs(2)).
func foreignAt(fd int, device uint64) string {
	var st unix.Statfs_t
	if unix.Fstatfs(fd, &st) != nil {
		return ""
	}
	switch uint32(st.Type) {
	case unix.NFS_SUPER_MAGIC, unix.SMB_SUPER_MAGIC, 0xff534d42 /* CIFS */, 0xfe534d42 /* SMB2 */, unix.AFS_SUPER_MAGIC, unix.CODA_SUPER_MAGIC, 0x01021997 /* 9P */ :
		return "network drive"
	case unix.FUSE_SUPER_MAGIC:
		return "file system of a program"
	case unix.MSDOS_SUPER_MAGIC, 0x2011bab0 /* exFAT */ :
		return "drive without owners"
	}
	// The machine's own disk may hang on a plug too.
	var root unix.Stat_t
	if unix.Stat("/", &root) == nil && device != root.Dev && removable("/sys", device, root.Dev) {
		return "drive that can be taken out"
	}
	return ""
}

// removable reports whether a block device can be taken out and written
// elsewhere while the machine goes on: by its own word, or because it hangs on
// a plug (sysfs, the attribute removable of a disk). root is the device that
// the machine runs from.
func removable(sys string, device, root uint64) bool {
	disk := diskOf(sys, device)
	if disk == "" || disk == diskOf(sys, root) {
		return false
	}
	text, _ := os.ReadFile(filepath.Join(disk, "removable"))
	return strings.TrimSpace(string(text)) == "1" || strings.Contains(disk, "/usb")
}

// diskOf returns the folder of the disk that a device is, or is a part of.
func diskOf(sys string, device uint64) string {
	dir, err := filepath.EvalSymlinks(filepath.Join(sys, "dev/block", fmt.Sprintf("%d:%d", unix.Major(device), unix.Minor(device))))
	if err != nil {
		return ""
	}
	if _, err := os.Stat(filepath.Join(dir, "removable")); err != nil {
		return filepath.Dir(dir)
	}
	return dir
}
