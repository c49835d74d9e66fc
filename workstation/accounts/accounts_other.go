//go:build !linux

package accounts

import (
	"errors"
	"os/user"
	"strconv"
	"time"
)

// Patience bounds a question.
const Patience = 5 * time.Second

func byName(name string) (Account, error) { return found(name, user.Lookup) }
func byID(uid int) (Account, error)       { return found(strconv.Itoa(uid), user.LookupId) }

func found(key string, find func(string) (*user.User, error)) (Account, error) {
	u, err := find(key)
	if err != nil {
		return Account{}, &UnknownError{Key: key}
	}
	a := Account{Name: u.Username, Folder: u.HomeDir, local: true}
	a.UID, err = strconv.Atoi(u.Uid)
	gid, gidErr := strconv.Atoi(u.Gid)
	a.GID = gid
	if errors.Join(err, gidErr) != nil {
		a.UID, a.GID = -1, -1 // accounts have no numbers here
	}
	return a, nil
}

func groupName(gid int) (string, error) {
	g, err := user.LookupGroupId(strconv.Itoa(gid))
	if err != nil {
		return "", &UnknownError{Group: true, Key: strconv.Itoa(gid)}
	}
	return g.Name, nil
}

func groupsOf(a Account) ([]uint32, error) {
	if a.GID < 0 {
		return nil, nil
	}
	return []uint32{uint32(a.GID)}, nil
}
