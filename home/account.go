package home

import (
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"github.com/adrg/xdg"
)

// Account is the name of the account that this process runs as, "" where it has
// none.
var Account = sync.OnceValue(func() string {
	u, err := user.LookupId(strconv.Itoa(os.Getuid()))
	if err != nil {
		return ""
	}
	return u.Username
})

// Folder is the home folder of the account that this process runs as.
var Folder = sync.OnceValue(func() string {
	if u, err := user.LookupId(strconv.Itoa(os.Getuid())); err == nil && u.HomeDir != "" {
		return u.HomeDir
	}
	if dir, err := os.UserHomeDir(); err == nil {
		return dir
	}
	return "/"
})

// FindFolder gives this process the home folder of its account, by the list of accounts,
// where the environment names none, or one that is no whole path (XDG Base Directory
// Specification, "Basics"). Its error is an [*Error]: nobody knows one.
func FindFolder() error {
	if dir, err := os.UserHomeDir(); err == nil && filepath.IsAbs(dir) {
		return nil
	}
	u, err := user.LookupId(strconv.Itoa(os.Getuid()))
	if err != nil || !filepath.IsAbs(u.HomeDir) {
		return &Error{Path: "your home folder", Reason: "the variable HOME names none, and the list of accounts has none for you", Remedy: "say where the gates are kept: --home DIR", Err: err}
	}
	if err := os.Setenv("HOME", u.HomeDir); err != nil {
		return err
	}
	xdg.Reload()
	return nil
}

// FolderOf is the home folder of an account, by the name that a gate gives it:
// "" is one's own. It is "/" where there is no such account.
func FolderOf(account string) string {
	if account == "" {
		return Folder()
	}
	if u, err := user.Lookup(account); err == nil && u.HomeDir != "" {
		return u.HomeDir
	}
	return "/"
}

// Expand puts a home folder in the place of a leading ~.
func Expand(path, folder string) string {
	if path == "~" || strings.HasPrefix(path, "~/") {
		return filepath.Join(folder, path[1:])
	}
	return path
}

// nobody is no account.
const nobody = -1
