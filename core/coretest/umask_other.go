//go:build !unix

package coretest

func setUmask() {}
