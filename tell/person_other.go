//go:build !unix

package tell

import "syscall"

// asPerson is never needed: a keeper here is one person's.
func asPerson(int, int) *syscall.SysProcAttr { return nil }
