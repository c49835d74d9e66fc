//go:build linux

package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation/wstest"
)

// TestEstateCommands: workstations join, are let in, and get a bundle; they answer what they
// are asked as far as they permit it, and say beforehand what a bundle would change.
func TestEstateCommands(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	b := openBindery(t)
	// A day file that does not come out as it should keeps the folder from going out.
	b.writes("days/monday.toml", "from = \"2026-11-30 08:00\"\nto = \"2026-11-30 12:00\"\nexpect = [\"humidity-log opens at 09:00\"]\n")
	if out, status := b.call("desk", b.publish("--waves", "rest")...); status != 3 || !strings.Contains(out, "nothing was published") {
		t.Errorf("a day that fails: status %d\n%s", status, out)
	}
	b.writes("days/monday.toml", "from = \"2026-11-30 08:00\"\nto = \"2026-11-30 12:00\"\nexpect = [\"never more than 2 at once\"]\n")
	b.must("none was published", "desk", "estate", "status")
	b.first()
	b.must("started", "press-room", "send", "now")
	wstest.Await(t, "its run", func() bool {
		out, _ := b.call("press-room", "output", "humidity-log")
		return strings.Contains(out, "press-room: 52 %")
	})
	b.must("humidity-log", "front-desk", "list")
	b.call("press-room", "send", "old")
	b.asksForThings(b.key)

	// Before the next one, the workstations say what it would change: nothing else changes.
	forecast := []string{"estate", "forecast", filepath.Join(b.dir, "folder"), "--key", b.key}
	b.writes("gates/glue-warm.toml", "run = [\"{scripts}/humidity-log\"]\nopens = [\"every 1s\"]\n[needs]\npaths = [\"/media/vault-of-the-bindery\"]\n")
	// Each workstation plays the folder's days, too; one that is for another it leaves to that one.
	for _, host := range []string{"front-desk", "studio-laptop"} {
		b.writes("days/of-"+host+".toml", "host = \""+host+"\"\nfrom = \"2026-11-30 08:00\"\nto = \"2026-11-30 08:01\"\nexpect = [\"humidity-log opens at 08:00:30\"]\n")
	}
	picture := filepath.Join(b.dir, "forecast.svg")
	out, status := b.call("desk", append(forecast, "--svg", picture)...)
	if drawn, err := os.ReadFile(picture); err != nil || !strings.Contains(string(drawn), "glue-warm needs /media/vault-of-the-bindery") || !strings.Contains(string(drawn), "2 of 2") {
		t.Errorf("the picture of the forecast: %v %.300s", err, drawn)
	}
	if status != 3 || !strings.Contains(out, "on 2 of 2: glue-warm needs /media/vault-of-the-bindery, which is not there") || !strings.Contains(out, "start") || !strings.Contains(out, "front-desk, press-room") ||
		!strings.Contains(out, "on 1 of 2: the day of-front-desk does not come out as it should\n  front-desk\n") || strings.Contains(out, "of-studio-laptop") || strings.Contains(out, "day monday") {
		t.Errorf("a forecast: status %d\n%s", status, out)
	}
	for _, host := range []string{"front-desk", "studio-laptop"} {
		if err := os.Remove(filepath.Join(b.dir, "folder/days/of-"+host+".toml")); err != nil {
			t.Fatal(err)
		}
	}
	b.writes("gates/glue-warm.toml", "run = [\"/opt/larkspur/bin/not-there\"]\nopens = [\"boot\"]\n")
	if out, status := b.call("desk", forecast...); status != 3 || !strings.Contains(out, "on 2 of 2: refused, for glue-warm: a program is not there (target-missing)") {
		t.Errorf("a forecast of what would be refused: status %d\n%s", status, out)
	}
	if out, _ := b.call("press-room", "list"); strings.Contains(out, "glue-warm") {
		t.Errorf("a trial has changed something:\n%s", out)
	}
	if err := os.Remove(filepath.Join(b.dir, "folder/gates/glue-warm.toml")); err != nil {
		t.Fatal(err)
	}
	for args, want := range map[string]string{
		"estate join mqtt://broker.larkspur.example --shop larkspur --trust KEY.pub":       "not encrypted",
		"estate join URL --shop Larkspur --trust KEY.pub":                                  "no name of a shop",
		"estate join URL --shop larkspur":                                                  "--trust FILE.pub",
		"estate join URL --shop larkspur --trust KEY":                                      "private key",
		"estate join URL --shop larkspur --trust KEY.pub --need 2":                         "2 keys must have signed, and 1 are trusted",
		"estate join URL --shop larkspur --trust KEY.pub --group A":                        "no name of a group",
		"estate join URL --shop larkspur --trust KEY.pub --password-file /not/there":       "/not/there",
		"estate publish /not/there --key KEY":                                              "no folder",
		"estate hold":                                                                      "--key FILE",
		"estate status":                                                                    "belongs to no estate",
		fmt.Sprintf("estate publish %s --key KEY --waves 1,2 --yes", b.dir+"/folder"):      "the rest",
		fmt.Sprintf("estate publish %s --key KEY --stop-if slow>1 --yes", b.dir+"/folder"): "no limit",
		fmt.Sprintf("estate publish %s --key KEY --after soon --yes", b.dir+"/folder"):     "--after",
		fmt.Sprintf("estate publish %s --key /not/there --yes", b.dir+"/folder"):           "cannot be read",
		fmt.Sprintf("estate publish %s --key KEY --yes", b.dir):                            "no gate file",
		"estate list --only odd":                                                           "write one of",
		"estate show":                                                                      "the name of the workstation is missing",
	} {
		args = strings.NewReplacer("KEY", b.key, "URL", b.url).Replace(args)
		if out, status := b.call("studio-laptop", strings.Fields(args)...); status != 2 || !strings.Contains(out, want) {
			t.Errorf("%s: status %d, want 2 and %q:\n%s", args, status, want, out)
		}
	}
}

// TestEstateWaves: a bundle that fails is held, and taken back; what failed before stops nothing.
func TestEstateWaves(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	b := openBindery(t)
	b.first()
	// What failed before, and does so again, stops no wave.
	for range 2 {
		b.call("press-room", "send", "old")
	}
	b.must("failed", "press-room", "history", "old-one")
	// A bundle whose gate fails: the wave stops, and the rest never gets it.
	b.writes("scripts/humidity-log", "#!/bin/sh\nexit 4\n")
	b.writes("gates/humidity-log.toml", strings.Replace(logged, "signal now", "every 1s", 1))
	out, status := b.call("desk", b.publish("--waves", "1,rest", "--after", "1h", "--stop-if", "failed > 0")...)
	if status != 1 || !strings.Contains(out, "bundle 2 is held: failed on 1 of 1 workstations") {
		t.Errorf("a wave that fails: status %d\n%s", status, out)
	}
	b.must("held", "desk", "estate", "status")
	if out, status := b.call("desk", "estate", "go-on", "--step", "--key", b.key); status != 1 || !strings.Contains(out, "bundle 2 is held: failed on 1 of 1") {
		t.Errorf("a step of a bundle that is held: status %d\n%s", status, out)
	}
	b.must("is held: failed on 1 of 1", "desk", "estate", "doctor")
	b.must("exit status 4", "desk", "estate", "history", "humidity-log", "--since", "today")
	if out := b.must("", "desk", "--json", "estate", "history", "nowhere"); strings.TrimSpace(out) != "[]" {
		t.Errorf("the history of no workstation is %s", out)
	}
	with2 := 0
	for _, h := range b.list() {
		if h.Report.Bundle.Number == 2 {
			with2++
			if h.Report.Failed == 0 {
				t.Errorf("no run has failed: %+v", h.Report)
			}
		}
	}
	if with2 != 1 {
		t.Errorf("%d workstations have the bundle that is held", with2)
	}
	// Somebody is changing gates in the press room just then: it is taken when that is done.
	unlock, err := home.At(filepath.Join(b.dir, "press-room"), gate.User).LockGates()
	if err != nil {
		t.Fatal(err)
	}
	time.AfterFunc(2*time.Second, unlock)
	b.must("which takes bundle 2 back", "desk", "estate", "back", "--key", b.key, "--yes")
	wstest.Await(t, "the content before", b.has(3, "taken", ""))
	b.must("all waves have begun", "desk", "estate", "go-on", "--step", "--key", b.key)
	b.must("signal now", "press-room", "show", "humidity-log")
	b.must("signal now", "front-desk", "show", "humidity-log")
	b.watches("press-room")
}

// TestEstateNewGate: a new gate that fails stops a wave, and does so again where it is published
// once more: what came of its name before is not its past.
func TestEstateNewGate(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	b := openBindery(t)
	b.first()
	b.writes("gates/glue-warm.toml", "run = [\"/bin/false\"]\nopens = [\"every 1s\"]\n")
	for number := 2; number <= 4; number += 2 {
		out, status := b.call("desk", b.publish("--waves", "1,rest", "--after", "1h", "--stop-if", "failed > 0")...)
		if status != 1 || !strings.Contains(out, fmt.Sprintf("bundle %d is held: failed on 1 of 1 workstations", number)) {
			t.Errorf("a new gate that fails: status %d\n%s", status, out)
		}
		b.must(fmt.Sprintf("which takes bundle %d back", number), "desk", "estate", "back", "--key", b.key, "--yes")
		wstest.Await(t, "the content before", b.has(number+1, "taken", ""))
	}
}

// TestEstateRefused: a bundle that cannot be on a workstation is refused there, what was there
// stays, and it stays also where the workstation leaves.
func TestEstateRefused(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	b := openBindery(t)
	b.first()
	// A program that is not there: refused with the code, and nothing changes.
	b.writes("gates/humidity-log.toml", strings.Replace(logged, "{scripts}/humidity-log", "/opt/larkspur/bin/not-there", 1))
	b.must("has begun", "desk", b.publish("--waves", "rest", "--first-only")...)
	wstest.Await(t, "that it is refused", b.has(2, "refused", "target-missing"))
	b.must("/scripts/humidity-log", "press-room", "list")
	if told := b.must(`"code": "target-missing"`, "press-room", "estate", "privacy"); strings.Contains(told, "/opt/larkspur") || strings.Contains(told, b.dir) {
		t.Errorf("paths are told: %s", told)
	}
	if out, status := b.call("press-room", "estate", "doctor"); status != 3 || !strings.Contains(out, "2 was refused (target-missing)") {
		t.Errorf("doctor: status %d\n%s", status, out)
	}
	// A gate of its own is not taken away: the bundle is refused, unless it says so, and then it
	// comes back when the bundle's goes.
	b.writes("gates/humidity-log.toml", logged)
	b.must("written", "front-desk", "add", "paper-rota", "--about", "made here", "--open", "signal rota", "--yes", "--", "/bin/true")
	b.must("written", "press-room", "add", "paper-rota", "--about", "made here", "--open", "signal rota", "--yes", "--", "/bin/true")
	const theirs = "about = \"the shop's\"\nrun = [\"/bin/true\"]\nopens = [\"signal rota\"]\n"
	b.writes("gates/paper-rota.toml", theirs)
	if out, status := b.call("desk", "estate", "forecast", filepath.Join(b.dir, "folder"), "--key", b.key); status != 3 || !strings.Contains(out, "a gate paper-rota was made there") {
		t.Errorf("a forecast of a conflict: status %d\n%s", status, out)
	}
	b.must("has begun", "desk", b.publish("--waves", "rest", "--first-only")...)
	wstest.Await(t, "that the conflict is refused", b.has(3, "refused", "conflict"))
	b.must("3 refused: a gate of that name was made there (conflict)", "desk", "estate", "show", "press-room")
	b.must("made here", "press-room", "show", "paper-rota")
	b.writes("gates/paper-rota.toml", "over = true\n"+theirs)
	b.must("has begun", "desk", b.publish("--waves", "rest", "--first-only")...)
	wstest.Await(t, "that it is taken", b.has(4, "taken", ""))
	b.must("the shop's", "press-room", "show", "paper-rota")
	if err := os.Remove(filepath.Join(b.dir, "folder/gates/paper-rota.toml")); err != nil {
		t.Fatal(err)
	}
	b.must("has begun", "desk", b.publish("--waves", "rest", "--first-only", "--group", "printing", "--host", "*-*")...)
	wstest.Await(t, "that the next one is taken", b.has(5, "taken", ""))
	b.must("made here", "press-room", "show", "paper-rota")
	b.must("has begun anew", "press-room", "estate", "leave", "--yes")
	b.must("humidity-log", "press-room", "list")
	if out, status := b.call("press-room", "estate", "privacy"); status != 2 || !strings.Contains(out, "belongs to no estate") {
		t.Errorf("after leaving: status %d, %s", status, out)
	}
}

// TestTwoSigners: where two must sign, and each keeps a key of their own, a bundle goes from one
// to the other in a file, and is published when both have signed it.
func TestTwoSigners(t *testing.T) {
	t.Parallel()
	b := &bindery{t: t, dir: t.TempDir(), url: startOpenBroker(t)}
	at := func(name string) string { return filepath.Join(b.dir, name) }
	for _, name := range []string{"maren.key", "ines.key", "stranger.key"} {
		b.must("", "desk", "sign", "--new-key", at(name))
	}
	b.must("", "desk", "estate", "join", b.url, "--shop", "larkspur", "--trust", at("maren.key.pub"), "--trust", at("ines.key.pub"), "--need", "2", "--desk")
	b.writes("gates/humidity-log.toml", "run = [\"{scripts}/humidity-log\"]\nopens = [\"signal now\"]\n")
	b.writes("scripts/humidity-log", "#!/bin/sh\necho 52 %\n")
	refused := func(want string, args ...string) {
		t.Helper()
		if out, status := b.call("desk", append([]string{"estate"}, args...)...); status == 0 || !strings.Contains(out, want) {
			t.Errorf("%s: status %d, want %q\n%s", args, status, want, out)
		}
	}
	file := at("november.bundle")
	// What is wrong with a folder wherever it comes to, and whom it is for, is found at the desk.
	b.writes("gates/vault-copy.toml", "this is [not toml\n")
	for _, what := range []string{"publish", "forecast"} {
		refused("folder/gates/vault-copy.toml:1:", what, at("folder"), "--key", at("maren.key"))
		refused("no workstation that was let in belongs to the group \"pirnting\"", what, at("folder"), "--key", at("maren.key"), "--group", "pirnting")
		refused("no workstation that was let in is called \"press-*\"", what, at("folder"), "--key", at("maren.key"), "--host", "press-*")
		refused("there is no gate file", what, t.TempDir(), "--key", at("maren.key"))
	}
	if err := os.Remove(at("folder/gates/vault-copy.toml")); err != nil {
		t.Fatal(err)
	}
	b.must("none was published", "desk", "estate", "status")
	refused("1 of the keys that are trusted here have signed it, and 2 must", "publish", at("folder"), "--key", at("maren.key"), "--yes", "--first-only")
	made := b.must("with bundle 2", "desk", "estate", "publish", at("folder"), "--key", at("maren.key"), "--waves", "1,rest", "--to", file)
	if !strings.Contains(made, "no workstation was let in yet") {
		t.Errorf("a bundle for nobody yet is made with\n%s", made)
	}
	refused("1 of the keys", "publish", file, "--key", at("maren.key"), "--yes", "--first-only")
	shown := b.must("trusted here", "desk", "estate", "sign", file, "--unpack", at("november"))
	if !strings.Contains(shown, "1,rest, each good for 4 h") || strings.Count(shown, "signed ") != 1 {
		t.Errorf("what is in it is shown as\n%s", shown)
	}
	if text, err := os.ReadFile(at("november/scripts/humidity-log")); err != nil || string(text) != "#!/bin/sh\necho 52 %\n" {
		t.Errorf("unpacked is %q, %v", text, err)
	}
	refused("the folder is not empty", "sign", file, "--unpack", at("november"))
	b.must("signed", "ines", "estate", "sign", file, "--key", at("ines.key"), "--yes")
	refused("this key has signed it already", "sign", file, "--key", at("ines.key"), "--yes")
	refused("was said when it was made", "publish", file, "--key", at("maren.key"), "--waves", "rest", "--yes")
	refused("no key that is trusted here", "publish", file, "--key", at("stranger.key"), "--yes", "--first-only")
	b.must("published bundle 2: wave 1 of 2 has begun", "desk", "estate", "publish", file, "--key", at("ines.key"), "--yes", "--first-only")
	refused("bundle 2 was published since this one was made", "publish", file, "--key", at("ines.key"), "--yes", "--first-only")
	raw, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	raw[len(raw)-1] ^= 1
	if err := os.WriteFile(file, raw, 0o644); err != nil {
		t.Fatal(err)
	}
	refused("november.bundle", "sign", file, "--key", at("ines.key"), "--yes")
	if err := os.Truncate(at("desk/estate/known.json"), 20); err != nil {
		t.Fatal(err)
	}
	b.must("no workstation was let in, and none asks", "desk", "estate", "list")
	b.must("no workstation matches, of 0", "desk", "estate", "list", "press")
	b.must("an older copy is used, with 0 workstations", "desk", "estate", "status")
}

// TestHubHome: a password is made for a hub that is there, and not for a misspelt home of one.
func TestHubHome(t *testing.T) {
	t.Parallel()
	b := &bindery{t: t, dir: t.TempDir()}
	for _, args := range [][]string{{"admit", "press-room"}, {"expel", "press-room"}} {
		if out, status := b.call("hbu", slices.Concat([]string{"estate", "hub"}, args)...); status != 2 || !strings.Contains(out, "hbu: give the hub's with --home") {
			t.Errorf("%s: status %d\n%s", args, status, out)
		}
	}
	if left, err := os.ReadDir(b.dir); err != nil || len(left) > 0 {
		t.Errorf("%v is left, %v", left, err)
	}
	if err := os.Mkdir(filepath.Join(b.dir, "hub"), 0o700); err != nil {
		t.Fatal(err)
	}
	b.must("", "hub", "estate", "hub", "admit", "press-room")
	if out, status := b.call("hub", "estate", "hub", "expel", "front-desk"); status != 4 {
		t.Errorf("nobody is expelled: status %d\n%s", status, out)
	}
	b.must("", "hub", "estate", "hub", "expel", "press-room")
}

// TestDemoEstate plays the demo's estate: a bundle that fails in the press room goes no further.
func TestDemoEstate(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "larkspur")
	out, err := exec.Command(program, "demo", "estate", "--keep", dir).CombinedOutput()
	if err != nil {
		for _, host := range []string{"hub", "front-desk", "press-room", "studio-laptop"} {
			log, _ := os.ReadFile(filepath.Join(dir, host+".log"))
			out = fmt.Appendf(out, "\n%s has logged\n%s", host, log)
		}
		t.Fatalf("%v\n%s", err, out)
	}
	text := string(out)
	for _, want := range []string{"desk $ timegate estate accept press-room", "of 3 workstations; all waves have begun", "vault-copy needs /media/vault-of-larkspur, which is not there", "monday.toml  ok", "held: failed on 1 of 2 workstations", "run 1 of stock-count failed (3)", "which takes bundle 2 back"} {
		if !strings.Contains(text, want) {
			t.Errorf("the demo does not show %q:\n%s", want, out)
		}
	}
	if strings.Contains(text, "127.0.0.1") || strings.ContainsAny(text, "\x1b\r") {
		t.Errorf("an address of this machine is shown, or control signs:\n%s", out)
	}
	for _, host := range []string{"front-desk", "press-room", "studio-laptop"} {
		if out, err := exec.Command(program, "--home", filepath.Join(dir, host), "keeper", "status").CombinedOutput(); err == nil {
			t.Errorf("the keeper of %s goes on:\n%s", host, out)
		}
	}
}
