package home

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"timegate/workstation/accounts"

	"github.com/adrg/xdg"
)

// Account is the name of the account that this process runs as, "" where it has
// none.
var Account = sync.OnceValue(func() string {
	return accounts.NameOf(os.Getuid())
})

// Folder is the home folder of the account that this process runs as.
var Folder = sync.OnceValue(func() string {
	if a, err := accounts.ByID(os.Getuid()); err == nil && a.Folder != "" {
		return a.Folder
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
	a, err := accounts.ByID(os.Getuid())
	if err != nil || !filepath.IsAbs(a.Folder) {
		return &Error{Path: "your home folder", Reason: "the variable HOME names none, and the list of accounts has none for you", Remedy: "say where the gates are kept: --home DIR", Err: err}
	}
	if err := os.Setenv("HOME", a.Folder); err != nil {
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
	if a, err := accounts.ByName(account); err == nil && a.Folder != "" {
		return a.Folder
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
