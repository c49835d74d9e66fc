//go:build !linux

package journal

// Watch sees nothing on this system.
func Watch(string, func()) (stop func(), err error) { return func() {}, nil }

// readOnlyDisk does not know on this system.
func readOnlyDisk(string) bool { return false }
