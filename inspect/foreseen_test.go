package inspect

import (
	"cmp"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/core/rehearsal"
)

// gateOf reads a gate of a scope.
func gateOf(t *testing.T, scope gate.Scope, text string) *gate.Gate {
	t.Helper()
	account := "maren"
	if scope == gate.System {
		account, text = "", text+"as.user = \"tobias\"\n"
	}
	g, found := gate.Read("vault-copy", "vault-copy.toml", []byte("run = [\"/bin/true\"]\n"+text), gate.Options{Scope: scope, Env: phrase.Env{Zone: calendar.UTC, Host: "studio", Account: account}})
	if g == nil {
		t.Fatalf("%s: %v", text, found)
	}
	return g
}

// TestRules: an opening is found that another rule of its gate never lets start, and none
// that may start on some day.
func TestRules(t *testing.T) {
	for _, tt := range []struct {
		opens, rest string
		scope       gate.Scope
		want        string // what is told, of the one that is found
	}{
		{opens: `"battery"`, rest: `needs.power = "mains"`, want: "opening 1 (battery) is skipped whenever it comes: it needs mains power"},
		{opens: `"battery"`, rest: `needs.power = "mains or 40%"`},
		{opens: `"battery + 10m"`, rest: `needs.power = "mains"`},
		{opens: `"mains"`, rest: `needs.power = "mains"`},
		{opens: `"offline"`, rest: `needs.online = true`, want: "let it wait"},
		{opens: `"offline"`, rest: "needs.online = true\nneeds.wait = \"1h\""},
		{opens: `"at 10:00", "offline"`, rest: `needs.online = true`, want: "opening 2 (offline)"},
		{opens: `"logon"`, rest: `needs.people = "nobody"`, want: "nobody logged on"},
		{opens: `"logoff of maren"`, scope: gate.System, rest: `needs.people = "maren"`, want: "needs maren"},
		{opens: `"logoff of maren"`, scope: gate.System, rest: `needs.people = "tobias"`},
		{opens: `"logon of maren"`, scope: gate.System, rest: `needs.people = "tobias"`},
		{opens: `"boot"`, scope: gate.System, rest: `needs.people = "someone"`, want: "let it wait"},
		{opens: `"boot"`, rest: `as.desktop = true`}, // such programs wait by themselves
		{opens: `"active"`, rest: `needs.idle = "10m"`, want: "change needs.idle"},
		{opens: `"idle 5m"`, rest: `needs.idle = "10m"`, want: "idle"},
		{opens: `"idle 10m"`, rest: `needs.idle = "10m"`},
		{opens: `"unlock"`, rest: `needs.idle = "10m"`, want: "idle"},
		{opens: `"unmount /media/vault"`, rest: `needs.paths = ["/media/vault/plates"]`, want: "/media/vault/plates"},
		{opens: `"unmount /media/vault"`, rest: `needs.paths = ["/media/vaults"]`},
		{opens: `"mount /media/vault"`, rest: `needs.paths = ["/media/vault/plates"]`},
		{opens: `"at 10:00", "signal proofs", "change in /srv/proofs", "end of ink-check"`, rest: `needs.power = "mains"`},
		{opens: `"battery"`, rest: "enabled = false\nneeds.power = \"mains\""},
	} {
		scope := cmp.Or(tt.scope, gate.User)
		g := gateOf(t, scope, "opens = ["+tt.opens+"]\n"+tt.rest+"\n")
		env := engine.Environment{Scope: scope, Account: "maren", Zone: "UTC", Host: "studio"}
		found := Rules(engine.Definition{Name: g.Name, Version: "1", Gate: g}, env)
		told := ""
		for _, f := range found {
			told += f.Message + "; " + f.Remedy + "\n"
		}
		if (tt.want == "") != (len(found) == 0) || len(found) > 1 || !strings.Contains(told, tt.want) {
			t.Errorf("%s, %s: %q, want …%s…", tt.opens, tt.rest, told, tt.want)
		}
	}
}

// TestRepeats: repeats that the next moment of their opening cuts off.
func TestRepeats(t *testing.T) {
	now := calendar.InstantOf(time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC))
	for when, want := range map[string]string{
		"at 09:00, then every 20m for 2h":                                         "",
		"at 09:00, 12:00, then every 30m for 2h":                                  "",
		"at 09:00, 12:00, then every 30m for 4h":                                  "for 4 hours, and the next moment, 3 hours later",
		"at 09:00, 09:20, then every 30m for 50m":                                 "none comes in between",
		"boot, then every 30m for 4h":                                             "",
		"every 2h, then every 30m for 1h":                                         "",
		"at 09:00, then every 30m for 4h, starting 2026-11-27, ending 2026-11-27": "",
	} {
		told := ""
		for _, f := range Repeats(gateOf(t, gate.User, "opens = [\""+when+"\"]\n"), now) {
			told += f.Message
		}
		if (told == "") != (want == "") || !strings.Contains(told, want) {
			t.Errorf("%s: %q, want …%s…", when, told, want)
		}
	}
}

// TestHabits: what is usually lacking at an hour, and machines that are woken though they
// are awake.
func TestHabits(t *testing.T) {
	at := func(day, hour int) calendar.Instant {
		return calendar.InstantOf(time.Date(2026, 11, day, hour, 0, 0, 0, time.UTC))
	}
	p := &Past{Absence: Absence{Since: at(1, 0), Until: at(26, 12)}}
	for day := 1; day <= 26; day++ { // asleep at night, on battery from 13 to 16 h, maren there from 8 to 18 h
		p.Spans = append(p.Spans, Away{From: at(day, 0), To: at(day, 6)})
		p.States = append(p.States,
			rehearsal.State{From: at(day, 0), To: at(day, 6), Asleep: true},
			rehearsal.State{From: at(day, 6), To: at(day, 8)},
			rehearsal.State{From: at(day, 8), To: at(day, 13), People: []string{"maren"}},
			rehearsal.State{From: at(day, 13), To: at(day, 16), OnBattery: true, People: []string{"maren"}},
			rehearsal.State{From: at(day, 16), To: at(day, 18), People: []string{"maren"}},
			rehearsal.State{From: at(day, 18), To: at(day+1, 0)})
	}
	for _, tt := range []struct{ opens, rest, want string }{
		{"at 14:00", `needs.power = "mains"`, "usually-unmet: opening 1 (at 14:00): at 14 of its next 14 moments the machine is usually without what the gate needs (it needs mains power on 3 of the last 3"},
		{"at 14:00", "needs.power = \"mains\"\nneeds.wait = \"3h\"", "it waits for that, for 3 hours"},
		{"at 12:00", `needs.power = "mains"`, ""},
		{"every 12h", `needs.power = "mains or 20%"`, "usually-away"},
		{"at 20:00", `needs.people = "someone"`, "usually-unmet"},
		{"at 10:00", `needs.people = "someone"`, ""},
		{"at 20:00", `as.desktop = true`, "usually-unmet"},
		{"at 10:00", `needs.people = "nobody"`, "maren"},
		{"at 10:00", `rules.wake = "5m"`, "needless-wake"},
		{"at 05:00", `rules.wake = "5m"`, ""},
		{"at 05:00, 10:00", `rules.wake = "5m"`, ""},
		{"boot", `needs.people = "someone"`, ""},
	} {
		told := ""
		for _, f := range Habits(gateOf(t, gate.User, "opens = [\""+tt.opens+"\"]\n"+tt.rest+"\n"), p) {
			told += f.Code + ": " + f.Message + "; " + f.Remedy
		}
		if (told == "") != (tt.want == "") || !strings.Contains(told, tt.want) {
			t.Errorf("%s, %s: %q, want …%s…", tt.opens, tt.rest, told, tt.want)
		}
	}
	if found := Habits(gateOf(t, gate.User, "opens = [\"at 14:00\"]\nneeds.power = \"mains\"\n"), &Past{Absence: p.Absence}); len(found) > 0 {
		t.Errorf("where nothing is known of its states: %v", found)
	}
}
