//go:build !unix

package home

import "io/fs"

// owner returns nobody: files have no numbered owners on this system.
func owner(fs.FileInfo) int { return nobody }

// withoutWaiting is nothing on this system.
const withoutWaiting = 0

// noFollow is nothing on this system.
const noFollow = 0
