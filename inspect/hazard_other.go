//go:build !linux

package inspect

// hasACL does not know on this system.
func hasACL(string) bool { return false }

// foreignFS does not know on this system.
func foreignFS(string) string { return "" }
