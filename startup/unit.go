package startup

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/shlex"

	"timegate/desktop"
)

// unit is a unit of the init system, with its further files laid over it
// (systemd.unit(5)).
type unit struct {
	name    string
	file    string // "" where there is none
	masked  bool   // it is to be taken as not there
	offs    string // the further file of ours that switches it off
	problem string
	options []option
}

// option is a line of a unit: an empty value takes back the ones before.
type option struct{ section, key, value string }

// values returns the values of a key that hold.
func (u *unit) values(section, key string) []string {
	var out []string
	for _, o := range u.options {
		if o.section != section || o.key != key {
			continue
		}
		if o.value == "" {
			out = nil
			continue
		}
		out = append(out, u.expand(o.value))
	}
	return out
}

// value returns the last value of a key, or "".
func (u *unit) value(section, key string) string {
	if list := u.values(section, key); len(list) > 0 {
		return list[len(list)-1]
	}
	return ""
}

// expand replaces the specifiers of a unit's own name.
func (u *unit) expand(text string) string {
	if !strings.Contains(text, "%") {
		return text
	}
	base := strings.TrimSuffix(u.name, filepath.Ext(u.name))
	prefix, instance, _ := strings.Cut(base, "@")
	return strings.NewReplacer("%%", "%", "%i", instance, "%I", strings.ReplaceAll(instance, "-", "/"), "%p", prefix, "%P", prefix, "%N", base, "%n", u.name).Replace(text)
}

// commands returns what a unit runs, each command parted, with its prefixes taken off.
func (u *unit) commands(key string) ([][]string, error) {
	var out [][]string
	for _, text := range u.values("Service", key) {
		bare := strings.TrimLeft(text, "@-:+!|")
		argv, err := shlex.Split(bare)
		if err != nil || len(argv) == 0 {
			return nil, fmt.Errorf("its command cannot be parted: %s", text)
		}
		if prefix := text[:len(text)-len(bare)]; strings.Contains(prefix, "@") && len(argv) > 1 {
			argv = slices.Delete(argv, 1, 2) // the name that the program is told
		}
		out = append(out, argv)
	}
	return out, nil
}

// longestUnit is how much of a unit's file is read, in bytes.
const longestUnit = 1 << 20

// readUnit reads the options of a file: sections, lines "KEY=VALUE", of which one that
// ends in a backslash goes on in the next, and comments (systemd.syntax(7)).
func readUnit(path string) ([]option, error) {
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, desktop.Plainly(err)
	case info.IsDir():
		return nil, errors.New("it is a folder")
	case !info.Mode().IsRegular() && info.Mode()&fs.ModeDevice == 0:
		return nil, errors.New("it is not a plain file")
	case info.Size() > longestUnit:
		return nil, errors.New("it is larger than 1 MiB, and no unit is")
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, desktop.Plainly(err)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, longestUnit))
	if err != nil {
		return nil, err
	}
	return parseUnit(data), nil
}

func parseUnit(data []byte) []option {
	var out []option
	section, whole := "", ""
	for line := range bytes.Lines(data) {
		text := strings.TrimSpace(string(line))
		if strings.HasPrefix(text, "#") || strings.HasPrefix(text, ";") || text == "" && whole == "" {
			continue // also within a line that goes on
		}
		if before, more := strings.CutSuffix(text, `\`); more {
			whole += before + " "
			continue
		}
		text, whole = whole+text, ""
		if name, ok := strings.CutPrefix(text, "["); ok && strings.HasSuffix(name, "]") {
			section = strings.TrimSuffix(name, "]")
			continue
		}
		if key, value, ok := strings.Cut(text, "="); ok {
			out = append(out, option{section, strings.TrimSpace(key), strings.TrimSpace(value)})
		}
	}
	return out
}
