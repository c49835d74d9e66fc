// Package here is the machine that the program runs on: the folder of
// workstation that serves this system, or the plain word that none does yet.
// A further system is one more file here, and a folder beside it that keeps the
// rules of workstation/wstest.
package here

import "errors"

// ErrNotServed is returned on systems on which no keeper can work yet.
var ErrNotServed = errors.New("a keeper does not work on this system yet: it can look at gates here, and not keep them")
