//go:build unix

package coretest

import "syscall"

// setUmask lets tests make files with the modes that they say.
func setUmask() { syscall.Umask(0o022) }
