// Package demo is the Larkspur Bindery, a small made-up workshop whose gates
// and scripts show the product at work.
package demo

import (
	"embed"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"timegate/core/calendar"
	"timegate/workstation/zones"
)

//go:embed bindery
var files embed.FS

// Workstation is the name of the machine on which the day is played.
const Workstation = "front-desk"

// Zone returns the time zone of the bindery.
func Zone() (*calendar.Zone, error) { return zones.Find("Europe/London") }

// Morning returns the beginning and the end of the staged morning: a Monday
// that is also the month's last weekday.
func Morning(zone *calendar.Zone) (from, to time.Time) {
	loc := zone.Location()
	return time.Date(2026, 11, 30, 6, 29, 0, 0, loc), time.Date(2026, 11, 30, 12, 0, 30, 0, loc)
}

// Unpack writes the bindery's gates into a folder of gates and its scripts
// into a folder of programs. Both folders must be there.
func Unpack(gates, bin string) error {
	return fs.WalkDir(files, "bindery", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		if filepath.Ext(path) == ".toml" {
			text := strings.ReplaceAll(string(data), "@BIN@", bin)
			return os.WriteFile(filepath.Join(gates, d.Name()), []byte(text), 0o600)
		}
		return os.WriteFile(filepath.Join(bin, d.Name()), data, 0o755)
	})
}
