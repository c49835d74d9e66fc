package home

import (
	"encoding/binary"

	"golang.org/x/sys/unix"
)

// letRun lets one account read and run a file of which it is not the owner, by
// an access control list (acl(5), in the form of linux/posix_acl_xattr.h).
func letRun(path string, uid int) error {
	const version, none = 2, 0xffffffff
	const owner, user, group, mask, other = 0x01, 0x02, 0x04, 0x10, 0x20
	list := binary.LittleEndian.AppendUint32(nil, version)
	for _, e := range []struct {
		tag, may uint16
		id       uint32
	}{{owner, 7, none}, {user, 5, uint32(uid)}, {group, 0, none}, {mask, 5, none}, {other, 0, none}} {
		list = binary.LittleEndian.AppendUint16(list, e.tag)
		list = binary.LittleEndian.AppendUint16(list, e.may)
		list = binary.LittleEndian.AppendUint32(list, e.id)
	}
	return unix.Setxattr(path, "system.posix_acl_access", list, 0)
}
