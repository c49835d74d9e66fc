package demo

import (
	"embed"
	"path"
	"strings"
)

//go:embed days
var days embed.FS

// Days returns the names of the ready days for rehearsals.
func Days() []string {
	entries, err := days.ReadDir("days")
	if err != nil {
		return nil
	}
	var out []string
	for _, e := range entries {
		out = append(out, strings.TrimSuffix(e.Name(), ".toml"))
	}
	return out
}

// DayFile returns the text of a ready day, and false where there is none of that name.
func DayFile(name string) ([]byte, bool) {
	data, err := days.ReadFile(path.Join("days", name+".toml"))
	return data, err == nil
}

//go:embed tuesday.toml
var tuesday []byte

// Tuesday returns the day file of the day after the staged one.
func Tuesday() []byte { return tuesday }
