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
		{"an env script", file("env", "#!/usr/bin/env python3\n", 0o755), dir, ""},
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
		for _, f := range Target(tt.path, tt.folder) {
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
