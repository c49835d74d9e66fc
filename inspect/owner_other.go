//go:build !unix

package inspect

import "io/fs"

// ownersOf does not know: files have no numbered owners on this system.
func ownersOf(fs.FileInfo) (uid, gid int, ok bool) { return 0, 0, false }
