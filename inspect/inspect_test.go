//go:build linux

package inspect

import (
	"bytes"
	"debug/elf"
	"encoding/binary"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"golang.org/x/sys/unix"

	"timegate/core/calendar"
	"timegate/core/gate"
	"timegate/core/phrase"
)

func TestTarget(t *testing.T) {
	dir := t.TempDir()
	file := func(name, content string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(content), mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	link := filepath.Join(dir, "link")
	if err := os.Symlink("/nowhere/at/all", link); err != nil {
		t.Fatal(err)
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	ran := filepath.Join(dir, "ran") // would be there if anything had been run
	// The heads of programs (elf(5)): one for a machine of 1979, and one for
	// this machine whose loader is /no/ld.
	alien := "\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 9) + "\x02\x00\x02\x00\x01\x00\x00\x00" + strings.Repeat("\x00", 28) + "\x40\x00\x38\x00\x00\x00\x40\x00\x00\x00\x00\x00"
	loaderless := elfWithLoader(t, "/no/ld")
	for _, tt := range []struct{ name, path, folder, want string }{
		{"good", file("good", "#!/bin/sh\n", 0o755), dir, ""},
		{"an env script", file("env", "#!/usr/bin/env sh\necho\n", 0o755), dir, ""},
		{"an env script that is wrong", file("env2", "#!/usr/bin/env sh\nif true; then\n", 0o755), dir, "script-syntax"},
		{"an env script with options", file("env3", "#! /usr/bin/env -S A=1 sh -e\necho\n", 0o755), dir, ""},
		{"an env script without its program", file("env4", "#! /usr/bin/env no-such-tool\n", 0o755), dir, "interpreter-missing"},
		{"an env script with options and without its program", file("env5", "#!/usr/bin/env -S no-such-tool -x\n", 0o755), dir, "interpreter-missing"},
		{"a binary", self, dir, ""},
		{"a binary for another machine", file("alien", alien, 0o755), dir, "architecture"},
		{"a damaged binary", file("damaged", "\x7fELF", 0o755), dir, "architecture"},
		{"an interpreter for another machine", file("aliens", "#!"+filepath.Join(dir, "alien")+"\n", 0o755), dir, "architecture"},
		{"a binary without its loader", file("loaderless", loaderless, 0o755), dir, "architecture"},
		{"text", file("text", "echo glue\n", 0o755), dir, "no-interpreter"},
		{"line ends", file("crlf", "#!/bin/sh\r\necho glue\r\n", 0o755), dir, "line-ends"},
		{"a shell script that is wrong", file("sh", "#!/bin/sh\nif true; then echo >"+ran+"\n", 0o755), dir, "script-syntax"},
		{"a shell script that is right", file("right", "#!/bin/bash\necho >"+ran+"\n", 0o755), dir, ""},
		{"an interpreter from elsewhere", file("elsewhere", "#!"+file("bash", "#!/bin/sh\necho >"+ran+"\n", 0o755)+"\nif\n", 0o755), dir, ""},
		{"missing", filepath.Join(dir, "missing"), dir, "target-missing"},
		{"a broken link", link, dir, "target-missing"},
		{"below a file", filepath.Join(dir, "good", "x"), dir, "target-missing"},
		{"a folder", dir, dir, "target-not-executable"},
		{"not executable", file("plain", "#!/bin/sh\n", 0o644), dir, "target-not-executable"},
		{"no interpreter", file("lost", "#! /nowhere/sh -e\n", 0o755), dir, "interpreter-missing"},
		{"no folder", "/bin/true", filepath.Join(dir, "missing"), "folder-missing"},
		{"a file as folder", "/bin/true", file("file", "", 0o644), "folder-missing"},
		{"two faults", filepath.Join(dir, "missing"), "/nowhere", "target-missing folder-missing"},
	} {
		var codes []string
		for _, f := range Target(tt.path, tt.folder, Who{Name: "root"}) {
			codes = append(codes, f.Code)
			if f.Message == "" || f.Remedy == "" || f.Severity != gate.SevereError {
				t.Errorf("%s: a finding without words: %+v", tt.name, f)
			}
		}
		if got := strings.Join(codes, " "); got != tt.want {
			t.Errorf("%s: found %q, want %q", tt.name, got, tt.want)
		}
	}
	if _, err := os.Stat(ran); err == nil {
		t.Error("a script was run to look at it")
	}
}

// TestReach: what an account cannot run or enter, or what takes other rights,
// is told before it is tried.
func TestReach(t *testing.T) {
	dir := t.TempDir()
	top := filepath.Dir(dir) // which the account must be able to pass
	if err := os.Chmod(top, 0o755); err != nil {
		t.Fatal(err)
	}
	make := func(name string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte("#!/bin/sh\n"), 0o700), os.Chmod(path, mode)); err != nil {
			t.Fatal(err)
		}
		return path
	}
	folder := func(name string, mode os.FileMode) string {
		path := filepath.Join(dir, name)
		if err := errors.Join(os.MkdirAll(path, 0o755), os.Chmod(path, mode)); err != nil {
			t.Fatal(err)
		}
		return path
	}
	within := make("closed/in/it", 0o755)
	folder("closed", 0o700)
	link := filepath.Join(dir, "link")
	if err := errors.Join(os.Symlink(make("open", 0o755), link), os.Symlink(link, link+"2")); err != nil {
		t.Fatal(err)
	}
	own := uint32(os.Getgid())
	for _, tt := range []struct {
		name, program, folder string
		who                   Who
		want                  string
	}{
		{"open", make("open", 0o755), dir, Who{UID: 54321}, ""},
		{"its owner's alone", make("mine", 0o700), dir, Who{UID: 54321}, "target-closed"},
		{"and asked by that one", make("mine", 0o700), dir, Who{UID: os.Getuid()}, ""},
		{"the group's", make("ours", 0o750), dir, Who{UID: 54321, Groups: []uint32{own}}, ""},
		{"a script that cannot be read", make("blind", 0o711), dir, Who{UID: 54321}, "target-closed"},
		{"in a closed folder", within, dir, Who{UID: 54321}, "target-closed"},
		{"a closed working folder", make("open", 0o755), folder("closed", 0o700), Who{UID: 54321}, "folder-closed"},
		{"a chained link", link + "2", dir, Who{UID: 54321}, "chained-link"},
		{"a link", link, dir, Who{UID: 54321}, ""},
		{"set-user-ID", make("set", 0o755|os.ModeSetuid), dir, Who{UID: 54321}, "set-id"},
		{"set-group-ID of the own group", make("setg", 0o755|os.ModeSetgid), dir, Who{UID: 54321, Groups: []uint32{own}}, ""},
	} {
		var codes []string
		for _, f := range Target(tt.program, tt.folder, tt.who) {
			codes = append(codes, f.Code)
		}
		if got := strings.Join(codes, " "); got != tt.want {
			t.Errorf("%s: found %q, want %q", tt.name, got, tt.want)
		}
	}
}

// TestRemovable reads of disks as the kernel lists them.
func TestRemovable(t *testing.T) {
	sys := t.TempDir()
	for number, device := range map[string]string{
		"8:1": "devices/pci0/ata1/block/sda/sda1", "8:17": "devices/pci0/usb2/2-1/block/sdb/sdb1", "179:1": "devices/mmc/block/mmcblk0/mmcblk0p1", "11:0": "devices/pci0/ata2/block/sr0",
	} {
		path := filepath.Join(sys, device)
		if err := errors.Join(os.MkdirAll(path, 0o755), os.MkdirAll(filepath.Join(sys, "dev/block"), 0o755), os.Symlink(path, filepath.Join(sys, "dev/block", number))); err != nil {
			t.Fatal(err)
		}
	}
	for disk, word := range map[string]string{"devices/pci0/ata1/block/sda": "0", "devices/pci0/usb2/2-1/block/sdb": "0", "devices/mmc/block/mmcblk0": "1", "devices/pci0/ata2/block/sr0": "1"} {
		if err := os.WriteFile(filepath.Join(sys, disk, "removable"), []byte(word+"\n"), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for _, tt := range []struct {
		major, minor uint32
		want         bool
	}{{8, 1, false}, {8, 17, true}, {179, 1, true}, {11, 0, true}, {0, 30, false}} {
		if got := removable(sys, unix.Mkdev(tt.major, tt.minor), unix.Mkdev(8, 2)); got != tt.want {
			t.Errorf("%d:%d can be taken out: %v, want %v", tt.major, tt.minor, got, tt.want)
		}
	}
	if removable(sys, unix.Mkdev(8, 17), unix.Mkdev(8, 17)) {
		t.Error("the disk that the machine runs from can be taken out")
	}
}

// TestAbsence: a moment at which the machine was away on most of the days like
// it is told, unless it is woken for it.
func TestAbsence(t *testing.T) {
	zone := london(t)
	at := func(text string) calendar.Instant {
		when, err := time.ParseInLocation("2006-01-02 15:04", text, zone.Location())
		if err != nil {
			t.Fatal(err)
		}
		return calendar.InstantOf(when)
	}
	a := &Absence{Since: at("2026-10-05 08:00"), Until: at("2026-11-30 12:00")}
	for day := 5; day < 56; day++ { // asleep every night, off from Friday evening to Monday morning
		evening := time.Date(2026, 10, day, 22, 0, 0, 0, zone.Location())
		away := Away{From: calendar.InstantOf(evening), To: calendar.InstantOf(evening.Add(9 * time.Hour))}
		switch evening.Weekday() {
		case time.Friday:
			away.To, away.Off = calendar.InstantOf(evening.Add(57*time.Hour)), true
		case time.Saturday, time.Sunday:
			continue
		}
		a.Spans = append(a.Spans, away)
	}
	for _, tt := range []struct {
		when, rules, want string
	}{
		{"at 10:00 on mon-fri", "", ""},
		{"at 03:20", "", "at 14 of its next 14 moments"},
		{"at 10:00", "", ""},
		{"at 10:00 on weekends", "", "at 4 of its next 4 moments"},
		{"at 03:20 on tue-fri", `wake = "5m"`, ""},
		{"at 10:00 on sat", `wake = "5m"`, "at 2 of its next 2 moments"},
		{"at 03:20", `missed = "once"`, "caught up"},
		{"every 6h", "", "at 36 of its next 56 moments"},
		{"at 03:20, 10:00, 11:00 on mon-fri", "", ""},
		{"boot", "", ""},
	} {
		text := "run = [\"/bin/true\"]\nopens = [\"" + tt.when + "\"]\n[rules]\n" + tt.rules + "\n"
		g, found := gate.Read("vault-copy", "vault-copy.toml", []byte(text), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zone}})
		if g == nil {
			t.Fatal(found)
		}
		told := ""
		for _, f := range CheckAbsence(g, a) {
			told += f.Message + "; " + f.Remedy
		}
		if (told == "") != (tt.want == "") || !strings.Contains(told, tt.want) {
			t.Errorf("%s %s: %q, want …%s…", tt.when, tt.rules, told, tt.want)
		}
	}
	g, _ := gate.Read("vault-copy", "vault-copy.toml", []byte("run = [\"/bin/true\"]\nopens = [\"at 03:20\"]\n"), gate.Options{Scope: gate.User, Env: phrase.Env{Zone: zone}})
	for _, young := range []*Absence{{Until: a.Until}, {Since: at("2026-11-28 08:00"), Until: a.Until, Spans: a.Spans}} {
		if found := CheckAbsence(g, young); len(found) > 0 {
			t.Errorf("with too little known: %v", found)
		}
	}
}

// elfWithLoader returns a program for this machine with one header: the name
// of its loader.
func elfWithLoader(t *testing.T, loader string) string {
	t.Helper()
	var b bytes.Buffer
	h := elf.Header64{Type: uint16(elf.ET_EXEC), Machine: uint16(machines[runtime.GOARCH][0]), Version: 1, Phoff: 64, Ehsize: 64, Phentsize: 56, Phnum: 1, Shentsize: 64}
	copy(h.Ident[:], "\x7fELF\x02\x01\x01")
	p := elf.Prog64{Type: uint32(elf.PT_INTERP), Off: 120, Filesz: uint64(len(loader) + 1)}
	if err := errors.Join(binary.Write(&b, binary.LittleEndian, h), binary.Write(&b, binary.LittleEndian, p)); err != nil {
		t.Fatal(err)
	}
	return b.String() + loader + "\x00"
}

func london(t *testing.T) *calendar.Zone {
	t.Helper()
	loc, err := time.LoadLocation("Europe/London")
	if err != nil {
		t.Fatal(err)
	}
	return calendar.NewZone(loc)
}

func plan(t *testing.T, z *calendar.Zone, text string) *phrase.Plan {
	t.Helper()
	p, err := phrase.Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	plan, err := p.Compile(phrase.Env{Zone: z})
	if err != nil {
		t.Fatal(err)
	}
	return plan
}

func TestMoments(t *testing.T) {
	z := london(t)
	now := calendar.InstantOf(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	g := gate.Default("stock-count")
	if found := Moments(g, now); len(found) != 1 || found[0].Code != "no-opening" || found[0].Severity != gate.Note {
		t.Errorf("without openings: %+v", found)
	}
	for text, past := range map[string]bool{"at 09:00 on 2020-01-01": true, "at 09:00 on 2030-01-01": false, "at 09:00, ending 2026-11-22": true, "boot": false, "every 1h": false} {
		g.Opens = []gate.Opening{{Name: "1", When: text, Enabled: true, Plan: plan(t, z, text)}}
		if found := Moments(g, now); (len(found) == 1 && found[0].Code == "all-past") != past {
			t.Errorf("%s: %+v, in the past: %v", text, found, past)
		}
		g.Opens[0].Enabled = false
		if found := Moments(g, now); len(found) != 0 {
			t.Errorf("%s, switched off: %+v", text, found)
		}
	}
	for other, same := range map[string]bool{"at 09:00": true, "at 09:01": false, "at 09:00 on weekdays": false} {
		g.Opens = []gate.Opening{{Name: "1", When: "at 09:00", Enabled: true, Plan: plan(t, z, "at 09:00")}, {Name: "again", When: other, Enabled: true, Plan: plan(t, z, other)}}
		if found := Moments(g, now); (len(found) == 1 && found[0].Code == "same-opening" && strings.HasSuffix(found[0].Remedy, "stock-count/again")) != same {
			t.Errorf("at 09:00 and %s: %+v", other, found)
		}
		g.Opens[1].Enabled = false
		if found := Moments(g, now); len(found) != 0 {
			t.Errorf("at 09:00 and %s, which is off: %+v", other, found)
		}
	}
}

// TestLookPastAChange: the ends that are told are those of a usual window.
func TestLookPastAChange(t *testing.T) {
	o := Look(plan(t, london(t), "every 3h from 01:00 to 17:00 on sun"), calendar.InstantOf(time.Date(2027, 3, 27, 0, 0, 0, 0, time.UTC)), 28)
	loc := london(t).Location()
	if first := o.First.Time().In(loc).Format("2 Jan 15:04"); first != "4 Apr 01:00" {
		t.Errorf("the window begins %s", first)
	}
}

func TestLook(t *testing.T) {
	z := london(t)
	after := calendar.InstantOf(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)) // a Monday
	for _, tt := range []struct {
		phrase                 string
		starts, night, weekend int64
		first, last            string
		moved                  int
	}{
		{"at 09:00", 28, 0, 8, "", "", 0},
		{"at 09:00 on weekdays", 20, 0, 0, "", "", 0},
		{"at 23:00, 05:59, 06:00 on sat", 12, 8, 12, "", "", 0},
		{"every 3h from 09:00 to 16:00", 84, 0, 24, "09:00", "15:00", 0},
		{"every 30m from 22:00 to 02:00 on fri", 36, 36, 20, "22:00", "02:00", 0},
		{"at 01:30", 28, 28, 8, "", "", 2},
		{"at 01:30 on sun", 4, 4, 4, "", "", 2},
		{"boot", 0, 0, 0, "", "", 0},
	} {
		o := Look(plan(t, z, tt.phrase), after, 28)
		if o.Starts != tt.starts || o.AtNight != tt.night || o.Weekend != tt.weekend || len(o.Moved) != tt.moved || o.HasEnds != (tt.first != "") {
			t.Errorf("%s: %+v, want %+v", tt.phrase, o, tt)
		}
		if o.HasEnds {
			first, last := o.First.Time().Format("15:04"), o.Last.Time().Format("15:04")
			if first != tt.first || last != tt.last {
				t.Errorf("%s: a window from %s to %s, want %s to %s", tt.phrase, first, last, tt.first, tt.last)
			}
		}
	}
}
