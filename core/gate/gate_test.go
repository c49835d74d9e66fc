package gate

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
	"time"

	"timegate/core/calendar"
	"timegate/core/phrase"
)

var testOptions = Options{Scope: User, Env: phrase.Env{Zone: calendar.UTC}}

const wholeFile = `# The whole of a gate file.
about  = "Reset the label printer's spool"
run    = ["/opt/larkspur/bin/spool-reset", "--quiet"]   # argv
folder = "/var/lib/larkspur"
opens  = [
  "boot + 45s, then every 20s for 3m",
  "at 08:15",   # daily
  { name = "saturdays", when = "at 08:15 on sat", enabled = false },
]
enabled = true
measure = ["memory", "disk:/home"]

[as]
window   = "ordinary"
priority = "low"
env      = { LANG = "en_GB.UTF-8", LARKSPUR_ROOM = "press" }

[needs]
power    = "mains or 40%"
people   = "maren"
paths    = ["/media/vault"]
online   = false
idle     = "0s"
wait     = "0s"
if_lost  = "carry on"

[limits]
longest  = "2h"
grace    = "5s"
output   = "64KiB"
success  = [0, 3]
leftovers = "end"

[again]
times    = 3
pause    = "1m30s"

[rules]
busy     = "queue"
missed   = "once"
missed_within = "12h"
wake     = "0s"
spread   = "0s"

[only]
hosts    = ["front-*"]
`

func TestRead(t *testing.T) {
	g, found := Read("spool-reset", "spool-reset.toml", []byte(wholeFile), testOptions)
	if g == nil {
		t.Fatal(found)
	}
	got := fmt.Sprintf("%q %q %s %v env=%v limits=%+v again=%+v rules=%+v only=%+v power=%s", g.About, g.Run, g.Folder, g.Enabled, g.As.Env,
		g.Limits, g.Again, g.Rules, g.Only, g.Needs.Power)
	want := `"Reset the label printer's spool" ["/opt/larkspur/bin/spool-reset" "--quiet"] /var/lib/larkspur true ` +
		`env=map[LANG:en_GB.UTF-8 LARKSPUR_ROOM:press] limits={Longest:2h0m0s Grace:5s Output:65536 Success:[0 3] Leftovers:end} again={Times:3 Pause:1m30s} ` +
		`rules={Busy:queue Missed:once MissedWithin:12h0m0s Wake:0s Spread:0s OwnChanges:slow} only={Hosts:[front-*]} power=mains or 40%`
	if got != want {
		t.Errorf("Read:\n got %s\nwant %s", got, want)
	}
	var opens []string
	for _, o := range g.Opens {
		opens = append(opens, fmt.Sprintf("%s=%s/%v", o.Name, o.When, o.Enabled))
	}
	if got, want := strings.Join(opens, "; "), "1=boot + 45s, then every 20s for 3m/true; 2=at 08:15/true; saturdays=at 08:15 on sat/false"; got != want {
		t.Errorf("openings %s, want %s", got, want)
	}
	// What asks for something that does not work yet is said to, and nothing
	// else is.
	var codes []string
	for _, f := range found {
		codes = append(codes, fmt.Sprintf("%d:%s", f.Line, f.Code))
	}
	want = ""
	if got := strings.Join(codes, " "); got != want {
		t.Errorf("findings %s, want %s", got, want)
	}
}

const head = "run = [\"/bin/true\"]\n"

var readErrorTests = []struct {
	name, text string
	line, col  int
	code       string
	message    string // part of message and remedy
}{
	{"no run", "about = \"x\"\n", 0, 0, "run-empty", "what to run"},
	{"empty run", "run = []\n", 1, 7, "run-empty", "nothing to run"},
	{"empty program", "run = [\"\"]\n", 1, 8, "run-empty", "program's name is empty"},
	{"run as text", "run = \"/bin/true\"\n", 1, 7, "wrong-type", `write ["/bin/true"]`},
	{"zero byte", "run = [\"a\\u0000\"]\n", 1, 8, "value", "zero byte"},
	{"unknown key", head + "abuot = \"x\"\n", 2, 1, "unknown-key", `did you mean "about"`},
	{"key in the wrong table", head + "longest = \"2h\"\n", 2, 1, "unknown-key", "[limits]"},
	{"unknown table", head + "[limts]\nlongest = \"2h\"\n", 2, 1, "unknown-key", "did you mean [limits]"},
	{"list of tables", head + "[[limits]]\n", 2, 1, "unknown-key", "no table"},
	{"wrong type", head + "enabled = \"true\"\n", 2, 11, "wrong-type", "without quotes"},
	{"number for text", head + "about = 5\n", 2, 9, "wrong-type", `write "5"`},
	{"number for a span", head + "[limits]\nlongest = 30\n", 3, 11, "wrong-type", `"30s"`},
	{"bad span", head + "[limits]\nlongest = \"2 hours\"\n", 3, 11, "value", "not a duration"},
	{"bad choice", head + "[rules]\nbusy = \"quue\"\n", 3, 8, "value", `did you mean "queue"`},
	{"bad output", head + "[limits]\noutput = \"10%\"\n", 3, 10, "value", "not a size"},
	{"huge output", head + "[limits]\noutput = \"5GiB\"\n", 3, 10, "value", "out of range"},
	{"bad status", head + "[limits]\nsuccess = [0, 300]\n", 3, 15, "value", "out of range"},
	{"no status", head + "[limits]\nsuccess = []\n", 3, 11, "value", "no exit status"},
	{"relative folder", head + "folder = \"spool\"\n", 2, 10, "value", "not a whole path"},
	{"bad power", head + "[needs]\npower = \"mains or 400%\"\n", 3, 9, "value", "no power condition"},
	{"bad account", head + "[needs]\npeople = \"ma ren\"\n", 3, 10, "value", "name of an account"},
	{"bad host", head + "[only]\nhosts = [\"front-[\"]\n", 3, 10, "value", "no pattern"},
	{"bad reading", head + "measure = [\"cpu\"]\n", 2, 12, "value", "no reading"},
	{"bad variable", head + "[as]\nenv = { \"A-B\" = \"x\" }\n", 3, 9, "value", "name of a variable"},
	{"reserved variable", head + "[as.env]\nTIMEGATE_RUN = \"1\"\n", 3, 1, "value", "set by the keeper"},
	{"bad phrase", head + "opens = [\"at 8:15\"]\n", 2, 14, "phrase", `write "at 08:15"`},
	{"bad phrase, escaped", head + "opens = [\"line \\\"(\\\" in /x\"]\n", 2, 10, "phrase", "missing closing"},
	{"never", head + "opens = [\"at 09:00 on day 31 in feb\"]\n", 2, 20, "phrase", "never come"},
	{"no when", head + "opens = [{ name = \"x\" }]\n", 2, 10, "phrase", "does not say when"},
	{"opening's key", head + "opens = [{ whn = \"boot\" }]\n", 2, 12, "unknown-key", `did you mean "when"`},
	{"opening's name", head + "opens = [{ name = \"7\", when = \"boot\" }]\n", 2, 19, "name", "at least one is a letter"},
	{"two openings of a name", head + "opens = [{ name = \"a\", when = \"boot\" }, { name = \"a\", when = \"boot\" }]\n", 2, 41, "duplicate-name", `"a"`},
	{"key twice", head + "about = \"a\"\nabout = \"b\"\n", 3, 1, "syntax", "given twice"},
	{"not TOML", head + "about = \n", 2, 9, "syntax", "not TOML"},
	{"not UTF-8", head + "about = \"\xff\"\n", 2, 10, "syntax", "UTF-8"},
	{"too large", head + strings.Repeat("# x\n", MaxSize/4+1), 0, 0, "too-large", "larger than"},
	{"elevated and user", head + "[as]\nelevated = true\nuser = \"maren\"\n", 3, 1, "combination", "not both"},
	{"elevated in the user scope", head + "[as]\nelevated = true\n", 3, 1, "combination", "system scope"},
	{"nobody on a desktop", head + "[as]\ndesktop = true\n[needs]\npeople = \"nobody\"\n", 5, 1, "combination", "somebody logged on"},
}

func TestReadErrors(t *testing.T) {
	for _, tt := range readErrorTests {
		t.Run(tt.name, func(t *testing.T) {
			g, found := Read("x", "x.toml", []byte(tt.text), testOptions)
			errs := found.Errors()
			if g != nil || len(errs) == 0 {
				t.Fatalf("Read = %v, %v, want an error", g, found)
			}
			f := errs[0]
			if f.Line != tt.line || f.Column != tt.col || f.Code != tt.code || !strings.Contains(f.Message+"; "+f.Remedy, tt.message) {
				t.Errorf("got  %d:%d %s: %s\nwant %d:%d %s: …%s…", f.Line, f.Column, f.Code, f.Error(), tt.line, tt.col, tt.code, tt.message)
			}
			if caret := f.Caret(); (caret == "") != (tt.line == 0) {
				t.Errorf("mark %q for line %d", caret, tt.line)
			}
		})
	}
	for _, name := range []string{"", "a/b", "../x", "Maren", "-x", "x y", strings.Repeat("x", 64)} {
		if g, found := Read(name, "x.toml", []byte(head), testOptions); g != nil || found[0].Code != "name" {
			t.Errorf("the name %q gives %v, %v", name, g, found)
		}
	}
	for what, text := range map[string]string{
		"no account":            head,
		"a home to be watched":  head + "opens = [\"change in ~/proofs\"]\n[as]\nuser = \"maren\"\n[rules]\nbusy = \"queue\"\n",
		"a home that is needed": head + "[as]\nuser = \"maren\"\n[needs]\npaths = [\"/srv\", \"~/vault\"]\n",
	} {
		if g, found := Read("x", "x.toml", []byte(text), Options{Scope: System, Env: testOptions.Env}); g != nil || found[0].Code != "combination" {
			t.Errorf("in the system scope, %s gives %v, %v", what, g, found)
		}
	}
}

// TestUnwise: what is right and will hardly do what is meant is told, at its
// place.
func TestUnwise(t *testing.T) {
	for _, tt := range []struct{ text, want string }{
		{"opens = [\"boot\"]\n[needs]\nwait = \"10m\"\n", "4:1 warning no-effect"},
		{"opens = [\"boot\"]\n[needs]\nif_lost = \"stop\"\n", "4:1 warning no-effect"},
		{"opens = [\"boot\"]\n[needs]\nonline = true\nwait = \"10m\"\nif_lost = \"stop\"\n", ""},
		{"opens = [\"unlock\"]\n[rules]\nwake = \"5m\"\n", "4:1 warning no-effect"},
		{"opens = [\"unlock\", \"at 03:00\"]\n[rules]\nwake = \"5m\"\n", ""},
		{"opens = [\"change in /srv/proofs\"]\n", "2:1 note changes-while-busy"},
		{"opens = [\"change in /srv/proofs\"]\n[rules]\nbusy = \"queue\"\n", ""},
	} {
		g, found := Read("x", "x.toml", []byte(head+tt.text), testOptions)
		got := ""
		for _, f := range found {
			got += fmt.Sprintf("%d:%d %s %s", f.Line, f.Column, f.Severity, f.Code)
		}
		if g == nil || got != tt.want {
			t.Errorf("%q: %q, want %q", tt.text, got, tt.want)
		}
	}
}

// TestSpread: a gate's share of its spread is steady, below it, and differs
// between hosts and gates.
func TestSpread(t *testing.T) {
	at := func(host, name string, was ...string) time.Duration {
		opt := testOptions
		opt.Env.Host = host
		g, found := Read(name, name+".toml", []byte(head+fmt.Sprintf("was = [%s]\n", strings.Join(was, ","))+"opens = [\"at 09:00\", \"online\"]\n[rules]\nspread = \"30m\"\n"), opt)
		if g == nil {
			t.Fatal(found)
		}
		late := g.Opens[0].Plan.SpreadOffset()
		if late < 0 || late >= 30*time.Minute || g.Opens[1].Plan.SpreadOffset() != late {
			t.Errorf("%s on %s: %v and %v", name, host, late, g.Opens[1].Plan.SpreadOffset())
		}
		return late
	}
	seen := map[time.Duration]bool{}
	for i := range 20 {
		seen[at(fmt.Sprintf("front-%d", i), "vault-copy")] = true
	}
	first := at("front-1", "vault-copy")
	if len(seen) < 15 || !seen[first] || first == at("front-1", "job-board") {
		t.Errorf("20 hosts share %d times", len(seen))
	}
	if late := at("front-1", "vault-keep", `"vault-copy"`, `"vault-save"`); late != first {
		t.Errorf("with another name it comes %v later, before %v", late, first)
	}
}

func TestAllErrorsAtOnce(t *testing.T) {
	_, found := Read("x", "x.toml", []byte("abuot = 1\nrun = [\"\"]\nopens = [\"att 09:00\", 5]\n[limits]\ngrace = 3\n"), testOptions)
	if len(found) != 5 {
		t.Errorf("found %d errors, want 5:\n%v", len(found), found)
	}
	for i := 1; i < len(found); i++ {
		if found[i].Line < found[i-1].Line {
			t.Errorf("findings are out of order:\n%v", found)
		}
	}
}

var editTests = []struct {
	name, before string
	edit         func(*Edit)
	after        string
}{
	{"a value, its comment kept", "enabled = true # for now\n" + head, func(e *Edit) { e.SetBool("enabled", false) }, "enabled = false # for now\n" + head},
	{"a new key at the top", head + "# end\n", func(e *Edit) { e.SetBool("enabled", false) }, head + "enabled = false\n# end\n"},
	{"a new key before the tables", head + "\n[as]\nuser = \"a\"\n", func(e *Edit) { e.SetBool("enabled", false) }, head + "enabled = false\n\n[as]\nuser = \"a\"\n"},
	{"a new key in a table", head + "[limits]  # x\n", func(e *Edit) { e.SetText("limits.longest", "2h") }, head + "[limits]  # x\nlongest = \"2h\"\n"},
	{"a new table", head, func(e *Edit) { e.SetText("limits.longest", "2h") }, head + "\n[limits]\nlongest = \"2h\"\n"},
	{"a new table, no last newline", strings.TrimSpace(head), func(e *Edit) { e.SetText("limits.longest", "2h") }, head + "\n[limits]\nlongest = \"2h\"\n"},
	{"an inline table", "limits = { grace = \"1s\" } # y\n" + head, func(e *Edit) { e.SetText("limits.longest", "2h") }, "limits = { grace = \"1s\", longest = \"2h\" } # y\n" + head},
	{"a dotted key", "limits.longest = \"1h\"\n" + head, func(e *Edit) { e.SetText("limits.longest", "2h") }, "limits.longest = \"2h\"\n" + head},
	{"a list over lines", "run = [ # a\n  '/bin/true', # b\n]\n", func(e *Edit) { e.SetTexts("run", []string{"/bin/a b", "\"\\"}) }, "run = [\"/bin/a b\", \"\\\"\\\\\"]\n"},
	{"a plain opening off", head + "opens = [\n  \"boot\", # b\n  'at 09:00', # n\n]\n", func(e *Edit) { e.EnableOpening("2", false) },
		head + "opens = [\n  \"boot\", # b\n  { when = 'at 09:00', enabled = false }, # n\n]\n"},
	{"a named opening on", head + "opens = [{ name = \"a\", enabled = false, when = \"boot\" }]\n", func(e *Edit) { e.EnableOpening("a", true) },
		head + "opens = [{ name = \"a\", enabled = true, when = \"boot\" }]\n"},
	{"a named opening off", head + "opens = [\"boot\", { name = \"a\", when = \"boot\" }]\n", func(e *Edit) { e.EnableOpening("a", false) },
		head + "opens = [\"boot\", { name = \"a\", when = \"boot\", enabled = false }]\n"},
	{"another opening, on a line", head + "opens = [\n  \"boot\" # b\n]\n", func(e *Edit) { e.AddOpening(Opening{Name: "work", When: "at 09:00", Enabled: true}) },
		head + "opens = [\n  \"boot\", # b\n  { name = \"work\", when = \"at 09:00\" },\n]\n"},
	{"another opening, inline", head + "opens = [\"boot\"]\n", func(e *Edit) { e.AddOpening(Opening{Name: "2", When: "at 09:00", Enabled: true}) }, head + "opens = [\"boot\", \"at 09:00\"]\n"},
	{"the first opening", head + "opens = []\n", func(e *Edit) { e.AddOpening(Opening{Name: "1", When: "boot", Enabled: true}) }, head + "opens = [\n  \"boot\",\n]\n"},
	{"an opening away, with its line", head + "opens = [\n  \"boot\", # b\n  \"at 09:00\",\n]\n", func(e *Edit) { e.RemoveOpening("2") }, head + "opens = [\n  \"boot\", # b\n]\n"},
	{"an opening away, the last inline", head + "opens = [\"boot\", \"at 09:00\"]\n", func(e *Edit) { e.RemoveOpening("2") }, head + "opens = [\"boot\"]\n"},
	{"an opening away, the first inline", head + "opens = [\"boot\", \"at 09:00\"]\n", func(e *Edit) { e.RemoveOpening("1") }, head + "opens = [\"at 09:00\"]\n"},
	{"an opening's name", head + "opens = [\"boot\"]\n", func(e *Edit) { e.NameOpening("1", "morning") }, head + "opens = [{ name = \"morning\", when = \"boot\" }]\n"},
	{"values as people write them", head, func(e *Edit) {
		for _, kv := range [][2]string{{"only.hosts", "front-*,press-*"}, {"limits.success", "0, 3"}, {"needs.online", "yes"}, {"limits.longest", "2h"}, {"again.times", "3"}, {"needs.paths", `["/media/vault"]`}, {"about", "42"}} {
			if err := e.SetValue(kv[0], kv[1]); err != nil {
				e.err = err
			}
		}
	}, head + "about = \"42\"\n\n[only]\nhosts = [\"front-*\", \"press-*\"]\n\n[limits]\nsuccess = [0, 3]\nlongest = \"2h\"\n\n[needs]\nonline = true\npaths = [\"/media/vault\"]\n\n[again]\ntimes = 3\n"},
	{"a plain opening's phrase", head + "opens = ['boot', # b\n 'at 09:00']\n", func(e *Edit) { e.SetOpening("1", "boot + 1m") }, head + "opens = [\"boot + 1m\", # b\n 'at 09:00']\n"},
	{"a named opening's phrase", head + "opens = [{ when = \"boot\", name = \"a\" }]\n", func(e *Edit) { e.SetOpening("a", "boot + 1m") },
		head + "opens = [{ when = \"boot + 1m\", name = \"a\" }]\n"},
	{"windows line ends", "enabled = true\r\n" + head, func(e *Edit) { e.SetBool("enabled", false) }, "enabled = false\r\n" + head},
}

func TestEdit(t *testing.T) {
	for _, tt := range editTests {
		t.Run(tt.name, func(t *testing.T) {
			e := NewEdit([]byte(tt.before))
			tt.edit(e)
			got, err := e.Bytes()
			if err != nil || string(got) != tt.after {
				t.Errorf("got %q, %v\nwant %q", got, err, tt.after)
			}
			if g, found := Read("x", "x.toml", got, testOptions); g == nil {
				t.Errorf("the result is wrong: %v", found)
			}
		})
	}
	e := NewEdit([]byte(head + "opens = [{ name = \"saturdays\", when = \"boot\" }]\n"))
	e.EnableOpening("saturday", false)
	if _, err := e.Bytes(); err == nil || !strings.Contains(err.Error(), `did you mean "saturdays"`) {
		t.Errorf("an opening that is not there: %v", err)
	}
	for key, meant := range map[string]string{"retry": "again.times", "longest": "limits.longest", "timeout": "limits.longest", "only.host": "only.hosts"} {
		if err := NewEdit(nil).SetValue(key, "1"); err == nil || !strings.Contains(err.Error(), strconv.Quote(meant)) {
			t.Errorf("%s: %v, want %s", key, err, meant)
		}
	}
	e = NewEdit([]byte("run = "))
	e.SetBool("enabled", true)
	if _, err := e.Bytes(); err == nil {
		t.Error("a broken file was edited")
	}
}

func TestFormat(t *testing.T) {
	g := Default("vault-copy")
	g.About, g.Run, g.Folder, g.Enabled = "Copy \"all\"\nto the vault", []string{"/opt/larkspur/bin/vault-copy", "a b"}, "/srv", false
	g.As.User, g.Limits.Longest, g.Rules.Busy = "maren", 2*time.Hour, BusyQueue
	g.Opens = []Opening{{Name: "1", When: "boot", Enabled: true}, {Name: "2", When: "at 09:00", Enabled: false},
		{Name: "saturdays", When: "at 08:15 on sat", Enabled: true}, {Name: "off", When: "boot + 1m", Enabled: false}}
	text := Format(g)
	got, found := Read(g.Name, "x.toml", text, testOptions)
	if got == nil {
		t.Fatalf("%v\n%s", found, text)
	}
	for i := range got.Opens {
		got.Opens[i].Plan = nil
	}
	if want, have := fmt.Sprintf("%+v", *g), fmt.Sprintf("%+v", *got); want != have {
		t.Errorf("read back:\n got %s\nwant %s", have, want)
	}
}

// FuzzRead: no input makes the reader fail otherwise than by findings, and
// what can be read can be edited.
func FuzzRead(f *testing.F) {
	f.Add([]byte(wholeFile))
	for _, tt := range readErrorTests {
		if len(tt.text) < 1000 {
			f.Add([]byte(tt.text))
		}
	}
	for _, tt := range editTests {
		f.Add([]byte(tt.before))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		g, found := Read("x", "x.toml", data, testOptions)
		for i := range found {
			found[i].Caret()
		}
		if g == nil {
			if len(found.Errors()) == 0 {
				t.Fatalf("no gate and no error for %q", data)
			}
			return
		}
		e := NewEdit(data)
		e.SetBool("enabled", !g.Enabled)
		for _, o := range g.Opens {
			e.EnableOpening(o.Name, !o.Enabled)
		}
		out, err := e.Bytes()
		if err != nil {
			t.Fatalf("edit of %q: %v", data, err)
		}
		again, found := Read("x", "x.toml", out, testOptions)
		if again == nil || again.Enabled == g.Enabled {
			t.Fatalf("%q became %q: %v", data, out, found)
		}
		for i, o := range again.Opens {
			if o.Enabled == g.Opens[i].Enabled {
				t.Fatalf("%q became %q: opening %s is as before", data, out, o.Name)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	b.ReportAllocs()
	for b.Loop() {
		Read("x", "x.toml", []byte(wholeFile), testOptions)
	}
}
