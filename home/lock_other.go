//go:build !unix

package home

import "os"

// flock locks nothing: no keeper works on this system yet.
func flock(*os.File) (pid int) { return 0 }

func locked(*os.File) bool { return false }

func unflock(*os.File) {}
