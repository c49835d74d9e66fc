//go:build !unix

package cli

import "errors"

// beginAgain is not possible on this system.
func beginAgain() error { return errors.New("this system cannot begin a program anew in its place") }
