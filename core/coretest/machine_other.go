//go:build !unix

package coretest

func setUmask() {}

// Programs does nothing here: what lies in the folder for temporary files can be run.
func Programs() {}
