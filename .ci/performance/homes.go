package main

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// home returns a home that is made when it is first asked for.
func (l *lab) home(name string, fill func(dir string) error) (string, error) {
	if dir := l.homes[name]; dir != "" {
		return dir, nil
	}
	dir := filepath.Join(l.folder, name)
	if _, err := os.Stat(filepath.Join(dir, "made")); err != nil {
		if err := os.MkdirAll(filepath.Join(dir, "gates"), 0o700); err != nil {
			return "", err
		}
		if err := fill(dir); err != nil {
			return "", err
		}
		if err := os.WriteFile(filepath.Join(dir, "made"), nil, 0o600); err != nil {
			return "", err
		}
	}
	l.homes[name] = dir
	return dir, nil
}

// gates returns a home with so many gates, each with these openings.
func gates(n int, opens ...string) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		return l.home(fmt.Sprintf("gates-%d-%s", n, strings.NewReplacer(" ", "", ":", "").Replace(strings.Join(opens, "-"))), func(dir string) error { return writeGates(dir, n, opens...) })
	}
}

func writeGates(dir string, n int, opens ...string) error {
	for i := range n {
		var list []string
		for _, open := range opens {
			list = append(list, fmt.Sprintf("%q", strings.NewReplacer("HH", fmt.Sprintf("%02d", 7+i%11), "MM", fmt.Sprintf("%02d", i%60)).Replace(open)))
		}
		text := fmt.Sprintf("about = \"Number %d\"\nrun = [\"/bin/true\"]\nopens = [%s]\n", i, strings.Join(list, ", "))
		if err := os.WriteFile(filepath.Join(dir, "gates", fmt.Sprintf("gate-%d.toml", i)), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return nil
}

// recorded returns a home of 100 gates whose journal holds so many runs.
func recorded(runs int) func(*lab) (string, error) {
	return func(l *lab) (string, error) {
		return l.home(fmt.Sprintf("runs-%d", runs), func(dir string) error {
			if err := writeGates(dir, 100, "every 10m"); err != nil {
				return err
			}
			journal, err := filepath.Abs(filepath.Join(dir, "journal.db"))
			if err != nil {
				return err
			}
			cmd := exec.Command("go", "test", "./journal", "-timeout", "60m", "-run", "-", "-bench", "Large/begin", "-benchtime", "1x")
			cmd.Env = append(os.Environ(), "TIMEGATE_BENCH_JOURNAL="+journal, fmt.Sprintf("TIMEGATE_BENCH_DECISIONS=%d", 2*runs))
			if out, err := cmd.CombinedOutput(); err != nil {
				return fmt.Errorf("%w\n%s", err, out)
			}
			return nil
		})
	}
}

// entries returns a folder with so many desktop entries in one that is called as their kind:
// "applications" of the menu, or "autostart" of what starts at logon.
func (l *lab) entries(kind string, n int) (string, error) {
	return l.home(kind, func(dir string) error {
		folder := filepath.Join(dir, kind)
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		for i := range n {
			text := fmt.Sprintf("[Desktop Entry]\nType=Application\nName=Job board %d\nComment=The jobs of today\nExec=/bin/true %d\n", i, i)
			if err := os.WriteFile(filepath.Join(folder, fmt.Sprintf("board-%d.desktop", i)), []byte(text), 0o600); err != nil {
				return err
			}
		}
		return nil
	})
}
