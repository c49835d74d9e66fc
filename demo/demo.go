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
const Workstation = "studio-laptop"

// Zone returns the time zone of the bindery.
func Zone() (*calendar.Zone, error) { return zones.Find("Europe/London") }

// Folders are where the bindery's files are unpacked to. They must be there.
type Folders struct {
	Gates  string
	Bin    string // the programs
	Proofs string // where proofs come in
}

// Scene is something that happens on the staged day.
type Scene struct {
	At    time.Time
	Stage []string // what is staged, as words
	Proof string   // or a proof that somebody drops
}

// Day returns the staged day: a Monday that is also the month's last weekday.
func Day(zone *calendar.Zone) (from, to time.Time, scenes []Scene) {
	at := func(h, m, s int) time.Time { return time.Date(2026, 11, 30, h, m, s, 0, zone.Location()) }
	return at(6, 29, 0), at(18, 0, 30), []Scene{
		{At: at(6, 30, 10), Stage: []string{"device", "label-printer"}},
		{At: at(6, 40, 0), Stage: []string{"logon", "maren"}},
		{At: at(9, 12, 0), Proof: "hymnal-p12.pdf"},
		{At: at(9, 12, 3), Proof: "ledger-cover.pdf"},
		{At: at(9, 12, 7), Proof: "ledger-cover.pdf"},
		{At: at(12, 0, 1), Stage: []string{"battery", "64%"}},
		{At: at(12, 20, 0), Stage: []string{"mains"}},
		{At: at(13, 20, 0), Stage: []string{"sleep"}},
		{At: at(14, 35, 0), Stage: []string{"resume"}},
		{At: at(17, 5, 0), Stage: []string{"logoff", "maren"}},
	}
}

// Unpack writes the bindery's gates and programs into their folders.
func Unpack(to Folders) error {
	fill := strings.NewReplacer("@BIN@", to.Bin, "@PROOFS@", to.Proofs)
	return fs.WalkDir(files, "bindery", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := files.ReadFile(path)
		if err != nil {
			return err
		}
		if filepath.Ext(path) == ".toml" {
			return os.WriteFile(filepath.Join(to.Gates, d.Name()), []byte(fill.Replace(string(data))), 0o600)
		}
		return os.WriteFile(filepath.Join(to.Bin, d.Name()), data, 0o755)
	})
}
