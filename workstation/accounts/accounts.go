// Package accounts finds the accounts of this machine and their groups: in its own
// lists (passwd(5), group(5)), and where those do not have them by what the machine
// asks a directory service with.
//
// A directory service may be slow, or silent while a laptop is elsewhere. Each
// question has a deadline. What was answered is good for a minute, and where nothing
// answers then, for as long as this process runs: [Account.Age] says how old it is.
package accounts

import (
	"errors"
	"fmt"
	"time"
)

// Account is an account of this machine.
type Account struct {
	Name   string
	UID    int
	GID    int
	Folder string // its home folder, "" where none is given
	Shell  string // "" where none is given
	// Age is how long ago the directory service told of the account, where it did
	// and gives no answer now; else 0.
	Age time.Duration

	local bool // it is in the machine's own lists
}

// UnknownError says that there is no account, or no group, of a name or number.
type UnknownError struct {
	Group bool
	Key   string // the name, or the number in decimal
}

func (e *UnknownError) Error() string {
	if e.Group {
		return fmt.Sprintf("there is no group %q on this machine", e.Key)
	}
	return fmt.Sprintf("there is no account %q on this machine", e.Key)
}

// SilentError says that the machine's own lists do not have an account or a group,
// and that the directory service, which may have it, gives no answer.
type SilentError struct {
	Key string
	Err error
}

func (e *SilentError) Error() string {
	return fmt.Sprintf("whether there is an account %q is not known: the directory service gives no answer (%v)", e.Key, e.Err)
}

func (e *SilentError) Unwrap() error { return e.Err }

// Unknown reports whether an error says that there is no such account or group.
func Unknown(err error) bool {
	_, is := errors.AsType[*UnknownError](err)
	return is
}

// ByName finds an account. Its error is an [*UnknownError] or a [*SilentError]. It
// may take [Patience].
func ByName(name string) (Account, error) { return byName(name) }

// ByID finds the account that has a number. Its error is as that of [ByName].
func ByID(uid int) (Account, error) { return byID(uid) }

// NameOf returns the name of the account that has a number, "" where there is none
// or none is known.
func NameOf(uid int) string {
	a, err := ByID(uid)
	if err != nil {
		return ""
	}
	return a.Name
}

// GroupName returns the name of a group. Its error is an [*UnknownError] or a
// [*SilentError]. It may take [Patience].
func GroupName(gid int) (string, error) { return groupName(gid) }

// Groups returns the numbers of the groups that an account has at a login, its own
// first. Its error is a [*SilentError] where a directory service may have given it
// more, and says nothing: with fewer groups a program may be allowed more, where a
// file's mode shuts a group out. It may take [Patience].
func (a Account) Groups() ([]uint32, error) { return groupsOf(a) }
