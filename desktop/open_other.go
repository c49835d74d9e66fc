//go:build !unix

package desktop

import "os"

func openWithoutWaiting(path string) (*os.File, error) { return os.Open(path) }
