package home

import (
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
)

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

// Expand puts a home folder in the place of a leading ~.
func Expand(path, folder string) string {
	if path == "~" || strings.HasPrefix(path, "~/") {
		return filepath.Join(folder, path[1:])
	}
	return path
}

// nobody is no account.
const nobody = -1
