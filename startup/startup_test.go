package startup

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/gate"
	"timegate/core/phrase"
	"timegate/gates"
	"timegate/home"
)

// tree writes files below a folder. A text that begins with "->" is a link, one that is
// "/" a folder.
func tree(t *testing.T, root string, files map[string]string) {
	t.Helper()
	for path, text := range files {
		path = filepath.Join(root, path)
		err := os.MkdirAll(filepath.Dir(path), 0o755)
		switch link, isLink := strings.CutPrefix(text, "->"); {
		case err != nil:
		case isLink:
			err = os.Symlink(link, path)
		case text == "/":
			err = os.Mkdir(path, 0o755)
		default:
			err = os.WriteFile(path, []byte(text), 0o755)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

const entry = "[Desktop Entry]\nType=Application\nName=%s\nExec=/bin/run\n"

// machine is a disk with something from every source on it.
var machine = map[string]string{
	"bin/run":     "#!/bin/sh\n",
	"bin/sub/dir": "/",

	"etc/xdg/autostart/board.desktop":       fmt.Sprintf(entry, "Job board") + "Comment=Shows the jobs\n",
	"etc/xdg/autostart/hidden.desktop":      fmt.Sprintf(entry, "Hidden here, shown below"),
	"etc/xdg/autostart/only.desktop":        fmt.Sprintf(entry, "Elsewhere") + "OnlyShowIn=Press;\n",
	"etc/xdg/autostart/not.desktop":         fmt.Sprintf(entry, "Not here") + "NotShowIn=Other;Bindery;\n",
	"etc/xdg/autostart/nodisplay.desktop":   fmt.Sprintf(entry, "Unseen in menus") + "NoDisplay=true\n",
	"etc/xdg/autostart/try.desktop":         fmt.Sprintf(entry, "Try") + "TryExec=/opt/larkspur/bin/nothing\n",
	"etc/xdg/autostart/gone.desktop":        "[Desktop Entry]\nType=Application\nName=Gone\nExec=/opt/larkspur/bin/gone\n",
	"etc/xdg/autostart/blank.desktop":       "[Desktop Entry]\nType=Application\nName=Blank\nExec=\"/opt/my board/run\" \"a \\\\\"b\\\\\"\" %f 100%%\n",
	"opt/my board/run":                      "#!/bin/sh\n",
	"home/.config/autostart/hidden.desktop": "[Desktop Entry]\nHidden=true\n",
	"home/.config/autostart/own.desktop":    fmt.Sprintf(entry, "Own") + "Hidden=false\nTerminal=true\nPath=/srv\n",
	"home/.config/autostart/linked.desktop": "->/usr/share/applications/linked.desktop",
	"usr/share/applications/linked.desktop": fmt.Sprintf(entry, "Linked"),
	"home/.config/autostart/folder.desktop": "/",
	"home/.config/autostart/noise.desktop":  "\x00\xff\x00 nothing",
	"home/.config/autostart/huge.desktop":   fmt.Sprintf(entry, "Huge") + strings.Repeat("#", 10<<20),
	"home/.config/autostart/noexec.desktop": "[Desktop Entry]\nType=Application\nName=No Exec\n",
	"home/.config/autostart/circle.desktop": "->circle.desktop",
	"home/.config/autostart/quote.desktop":  "[Desktop Entry]\nType=Application\nName=Quote\nExec=\"/bin/run\n",
	"home/.config/autostart/link.desktop":   "[Desktop Entry]\nType=Link\nName=L\nURL=https://larkspur.example\n",
	"home/.config/autostart/readme.txt":     "nothing",

	"usr/lib/systemd/system/default.target":                         "->graphical.target",
	"usr/lib/systemd/system/graphical.target":                       "[Unit]\nRequires=multi-user.target\nWants=screen.service\n",
	"usr/lib/systemd/system/multi-user.target":                      "[Unit]\nRequires=basic.target\n",
	"usr/lib/systemd/system/basic.target":                           "[Unit]\nWants=graphical.target\nWants=timers.target sockets.target paths.target\n", // a circle
	"usr/lib/systemd/system/screen.service":                         "[Service]\nExecStart=/bin/run screen\n",
	"usr/lib/systemd/system/glue-warm.service":                      "[Unit]\nDescription=Warms the glue for %p\n[Service]\nExecStart=-/bin/run \\\n  # in between\n  --warm \"two words\"\nUser=maren\n",
	"etc/systemd/system/multi-user.target.wants/glue-warm.service":  "->/usr/lib/systemd/system/glue-warm.service",
	"etc/systemd/system/glue-warm.service.d/10-more.conf":           "[Service]\nExecStart=\nExecStart=@/bin/run name --more\n",
	"usr/lib/systemd/system/shelf@.service":                         "[Unit]\nDescription=Shelf %i\n[Service]\nExecStart=/bin/run %i\n",
	"etc/systemd/system/multi-user.target.wants/shelf@a.service":    "->/usr/lib/systemd/system/shelf@.service",
	"etc/systemd/system/masked.service":                             "->/dev/null",
	"etc/systemd/system/multi-user.target.wants/masked.service":     "->../masked.service",
	"etc/systemd/system/multi-user.target.wants/nofile.service":     "->/usr/lib/systemd/system/nofile.service",
	"etc/systemd/system/printer.target.wants/unreached.service":     "->/usr/lib/systemd/system/screen.service",
	"etc/systemd/system/alias.service":                              "->/usr/lib/systemd/system/real.service",
	"usr/lib/systemd/system/real.service":                           "[Service]\nExecStart=/opt/larkspur/bin/gone\n",
	"etc/systemd/system/multi-user.target.wants/alias.service":      "->/etc/systemd/system/alias.service",
	"etc/systemd/system/multi-user.target.wants/loop.service":       "->loop.service",
	"etc/systemd/system/loop.service":                               "->loop.service",
	"home/.config/systemd/user/proofs.service":                      "[Service]\nExecStart=run proofs\nEnvironment=\"A=b c\" D=e\nNice=10\nRestart=always\n",
	"home/.config/systemd/user/default.target.wants/proofs.service": "->../proofs.service",
	"lib": "->usr/lib",

	"usr/lib/systemd/system/timers.target":                            "[Unit]\n",
	"usr/lib/systemd/system/sockets.target":                           "[Unit]\n",
	"usr/lib/systemd/system/paths.target":                             "[Unit]\n",
	"usr/lib/systemd/system/stock-count.timer":                        "[Unit]\nDescription=Counts the stock\n[Timer]\nOnCalendar=daily\nOnBootSec=15min\nOnCalendar=\nOnCalendar=Sat 06:00\nPersistent=true\n",
	"usr/lib/systemd/system/stock-count.service":                      "[Service]\nExecStart=/bin/run count\nUser=ines\n",
	"etc/systemd/system/timers.target.wants/stock-count.timer":        "->/usr/lib/systemd/system/stock-count.timer",
	"usr/lib/systemd/system/never.timer":                              "[Timer]\nUnit=screen.service\n",
	"etc/systemd/system/timers.target.wants/never.timer":              "->/usr/lib/systemd/system/never.timer",
	"etc/systemd/system/timers.target.wants/lone.timer":               "->/etc/systemd/system/lone.timer",
	"etc/systemd/system/lone.timer":                                   "[Timer]\nOnBootSec=1min\n",
	"usr/lib/systemd/system/orders.socket":                            "[Socket]\nListenStream=/run/orders\nListenStream=8120\nAccept=yes\n",
	"usr/lib/systemd/system/orders@.service":                          "[Unit]\nDescription=Takes orders\n[Service]\nExecStart=/bin/run orders\n",
	"usr/lib/systemd/system/sockets.target.wants/orders.socket":       "->../orders.socket",
	"etc/systemd/system/inbox.path":                                   "[Path]\nDirectoryNotEmpty=/srv/proofs\nUnit=masked.service\n",
	"etc/systemd/system/paths.target.wants/inbox.path":                "->../inbox.path",
	"home/.config/systemd/user/rota.timer":                            "[Timer]\nOnStartupSec=5min\nUnit=proofs.service\n",
	"home/.config/systemd/user/default.target.wants/rota.timer":       "->../rota.timer",
	"usr/share/dbus-1/system-services/example.larkspur.Press.service": "[D-BUS Service]\nName=example.larkspur.Press\nExec=/bin/false\nUser=root\nSystemdService=glue-warm.service\n",
	"home/.local/share/dbus-1/services/board.service":                 "[D-BUS Service]\nName=example.larkspur.Board\nExec=/bin/run \"the board\"\n",
	"usr/share/dbus-1/services/board.service":                         "[D-BUS Service]\nName=example.larkspur.Board\nExec=/opt/larkspur/bin/gone\n",
	"usr/share/dbus-1/services/noisy.service":                         "\x00\xff",
	"home/.profile":           "umask 027\n",
	"home/.zprofile":          "",
	"home/.xsessionrc":        "->/etc/profile",
	"etc/profile":             "PATH=/bin\n",
	"etc/profile.d/press.sh":  "export PRESS=1\n",
	"etc/profile.d/press.csh": "setenv PRESS 1\n",
	"etc/rc.local":            "#!/bin/sh\n",

	"etc/init.d/paper-rota":   "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: paper-rota\n# Default-Start: 2 3 4 5\n# Short-Description: Prints the rota\n### END INIT INFO\n",
	"etc/init.d/old-press":    "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: old-press\n### END INIT INFO\n",
	"etc/init.d/glue-warm":    "#!/bin/sh\n### BEGIN INIT INFO\n### END INIT INFO\n",
	"etc/init.d/README":       "no script\n",
	"etc/rc3.d/S01paper-rota": "->../init.d/paper-rota",
	"etc/rc6.d/K01old-press":  "->../init.d/old-press",
}

// look looks at a made disk as the person whose folder is /home.
func look(root string) *Look {
	return &Look{Root: root, Own: "/home/.config", Home: "/home", Data: []string{"/home/.local/share"}, Config: []string{"/etc/xdg"}, Path: []string{"/bin"}, Desktops: []string{"Bindery"}}
}

// TestItems reads one of everything: what the specifications say of it, and a reason for
// what cannot be started. Nothing stops the look.
func TestItems(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	tree(t, root, machine)
	got := map[string]string{}
	for _, it := range look(root).Items() {
		if _, twice := got[it.ID]; twice {
			t.Errorf("%s is told twice", it.ID)
		}
		text := fmt.Sprintf("%s %v %q", it.State, it.Enabled, it.Command)
		if it.About != "" {
			text += " (" + it.About + ")"
		}
		if it.Why != "" {
			text += ": " + it.Why
		}
		if it.Within {
			text += " within"
		}
		if it.When != "" {
			text += " " + it.At + " " + it.When
		}
		if it.LookedAt {
			text += " looked at"
		}
		if it.Over != "" {
			text += " over " + strings.TrimPrefix(it.Over, root)
		}
		got[it.ID] = strings.ReplaceAll(text, root, "")
	}
	want := map[string]string{
		"autostart:board": `on true ["/bin/run"] (Shows the jobs)`, "autostart:hidden": `off false [] over /etc/xdg/autostart/hidden.desktop`,
		"autostart:only": `elsewhere true ["/bin/run"]: for Press`, "autostart:not": `elsewhere true ["/bin/run"]: not for Other, Bindery`,
		"autostart:nodisplay": `on true ["/bin/run"]`, "autostart:try": `missing true ["/bin/run"]: /opt/larkspur/bin/nothing does not exist (TryExec)`,
		"autostart:gone": `missing true ["/opt/larkspur/bin/gone"]: /opt/larkspur/bin/gone does not exist`, "autostart:blank": `on true ["/opt/my board/run" "a \"b\"" "100%"]`,
		"autostart:own": `on true ["/bin/run"]`, "autostart:linked": `on true ["/bin/run"]`, "autostart:folder": `broken false []: it is a folder`,
		"autostart:noise": `broken false []: it has no group [Desktop Entry]`, "autostart:huge": `broken false []: it is larger than 1 MiB, and no entry is`,
		"autostart:noexec": `broken false []: it says no program (Exec)`, "autostart:circle": `broken false []: it cannot be read: too many levels of symbolic links`,
		"autostart:quote": `broken false []: a quote is not closed in Exec="/bin/run`, "autostart:link": `broken false []: its type is "Link", and only an Application can be started`,
		"own-service:proofs": `on true ["/bin/run" "proofs"]`,
		"service:glue-warm":  `on true ["/bin/run" "--more"] (Warms the glue for glue-warm)`, "service:shelf@a": `on true ["/bin/run" "a"] (Shelf a)`,
		"service:masked": `off false []: masked by /etc/systemd/system/masked.service`, "service:nofile": `missing true []: it is switched on, and has no file`,
		"service:real": `missing true ["/opt/larkspur/bin/gone"]: /opt/larkspur/bin/gone does not exist`, "service:screen": `on true ["/bin/run" "screen"] within`,
		"service:loop":      `broken false []: it cannot be read: too many levels of symbolic links`,
		"timer:stock-count": `on true ["/bin/run" "count"] (Counts the stock) times OnCalendar=Sat 06:00, OnBootSec=15min`,
		"timer:never":       `broken false ["/bin/run" "screen"]: it says no time`, "timer:lone": `missing true []: lone.service is not there times OnBootSec=1min`,
		"socket:orders":                  `on true ["/bin/run" "orders"] (Takes orders) within call ListenStream=/run/orders, ListenStream=8120`,
		"path:inbox":                     `off false []: masked.service is switched off call DirectoryNotEmpty=/srv/proofs`,
		"own-timer:rota":                 `on true ["/bin/run" "proofs"] times OnStartupSec=5min`,
		"bus:example.larkspur.Press":     `on true ["/bin/run" "--more"] (Warms the glue for glue-warm) within call Name=example.larkspur.Press looked at`,
		"own-bus:example.larkspur.Board": `on true ["/bin/run" "the board"] call Name=example.larkspur.Board looked at`,
		"own-bus:noisy":                  `broken false []: it says no program (Exec) within call Name=noisy looked at`,
		"profile:~/.profile":             `on true [] (Own commands of a login shell) looked at`, "profile:~/.xsessionrc": `on true [] (Own commands of an X session) looked at`, "profile:/etc/profile": `on true [] (Commands of each login shell) within looked at`, "profile:/etc/profile.d/press.sh": `on true [] (Commands of each login shell) within looked at`,
		"init-script:rc.local":   `on true ["/etc/rc.local"] (The machine's own commands at the end of a boot) looked at`,
		"init-script:paper-rota": `on true ["/etc/init.d/paper-rota" "start"] (Prints the rota) looked at`, "init-script:old-press": `off false ["/etc/init.d/old-press" "start"] looked at`,
	}
	for _, id := range slices.Sorted(maps.Keys(want)) {
		if got[id] != want[id] {
			t.Errorf("%s\n got %s\nwant %s", id, got[id], want[id])
		}
		delete(got, id)
	}
	for id, text := range got {
		t.Errorf("not wanted: %s %s", id, text)
	}
}

// contents returns every file below a folder, links by what they lead to.
func contents(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	err := filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		if d.Type()&os.ModeSymlink != 0 {
			to, _ := os.Readlink(path)
			out[path] = "->" + to
			return nil
		}
		data, err := os.ReadFile(path)
		out[path] = string(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// here is a person's part of a machine that can be changed: entries only.
func here(t *testing.T, files map[string]string) (*Look, string) {
	root := t.TempDir()
	tree(t, root, files)
	return &Look{Own: filepath.Join(root, "own"), Config: []string{filepath.Join(root, "xdg")}, Path: []string{"/bin"}}, root
}

// TestRoundTrip switches items off and on again: each is off in between, nothing of the
// vendor's is touched, and in the end every file is as it was, to the byte.
func TestRoundTrip(t *testing.T) {
	t.Parallel()
	const run = "Exec=/bin/true\n"
	l, root := here(t, map[string]string{
		"xdg/autostart/vendor.desktop":                    "[Desktop Entry]\nType=Application\nName=Ven\\\\dor\\nline\n" + run,
		"own/autostart/plain.desktop":                     "# a comment\n\n[Desktop Entry]\nType=Application\nName=P\n" + run + "\n[Desktop Action x]\nHidden=false\n",
		"own/autostart/said.desktop":                      "[Desktop Entry]\nName=S\nType=Application\n" + run + "Hidden = false \n# end\n",
		"own/autostart/last.desktop":                      "[Desktop Entry]\nName=L\nType=Application\n" + run + "Hidden=false",
		"own/autostart/crlf.desktop":                      "[Desktop Entry]\r\nName=C\r\nType=Application\r\nExec=/bin/true\r\n",
		"own/autostart/latin.desktop":                     "[Desktop Entry]\nName=L\xe4\nType=Application\n" + run,
		"own/autostart/link.desktop":                      "->../../xdg/autostart/vendor.desktop",
		"own/systemd/user/s.service":                      "[Service]\nExecStart=/bin/true\n",
		"own/systemd/user/default.target.wants/s.service": "->../s.service",
		"own/systemd/user/default.target":                 "[Unit]\n",
	})
	before := contents(t, root)
	h := home.At(filepath.Join(t.TempDir(), "h"), gate.User)
	env := phrase.Env{}
	turn := func(id string, on bool) {
		t.Helper()
		it, err := Find(l.Items(), id)
		if err != nil {
			t.Fatal(err)
		}
		changes, err := l.Switch(&it, on)
		if err != nil {
			t.Fatalf("%s: %v", id, err)
		}
		plan := gates.NewPlan(h)
		for _, c := range changes {
			plan.PutOther(c)
		}
		if err := plan.Commit(env, time.Unix(0, 0)); err != nil {
			t.Fatal(err)
		}
		if it, _ = Find(l.Items(), id); it.Enabled != on {
			t.Errorf("%s: on is %v, want %v", id, it.Enabled, on)
		}
	}
	same := func(what string) {
		t.Helper()
		after := contents(t, root)
		for path, text := range before {
			if after[path] != text {
				t.Errorf("%s: %s\n got %q\nwant %q", what, path, after[path], text)
			}
			delete(after, path)
		}
		for path := range after {
			t.Errorf("%s: %s is left", what, path)
		}
	}
	for _, id := range []string{"vendor", "plain", "said", "last", "crlf", "latin", "autostart:link", "own-service:s"} {
		turn(id, false)
		if vendors := contents(t, filepath.Join(root, "xdg")); vendors[filepath.Join(root, "xdg/autostart/vendor.desktop")] != before[filepath.Join(root, "xdg/autostart/vendor.desktop")] {
			t.Errorf("%s: a vendor's file was touched", id)
		}
		turn(id, true)
		same(id)
		turn(id, false)
		undo, err := gates.Undo(h)
		if err == nil {
			err = undo.Commit(env, time.Unix(0, 0))
		}
		if err != nil {
			t.Fatal(err)
		}
		same(id + ", undone")
	}
}

// TestSwitchRefused: what cannot be switched is told with a remedy, and nothing changes.
func TestSwitchRefused(t *testing.T) {
	t.Parallel()
	l, root := here(t, map[string]string{
		"own/autostart/bare.desktop": "[Desktop Entry]\nHidden=true\n",
		"xdg/autostart/bare.desktop": fmt.Sprintf(entry, "Bare"),
		"xdg/autostart/mine.desktop": fmt.Sprintf(entry, "Mine"),
		"own/autostart/gone.desktop": "[Desktop Entry]\nType=Application\nName=G\nExec=/bin/true\nHidden=true\n",
	})
	disk := t.TempDir()
	tree(t, disk, machine)
	theirs := *l
	theirs.Own = ""
	for _, tt := range []struct {
		look *Look
		id   string
		on   bool
		want string
	}{
		{l, "bare", true, "rm " + root},
		{look(disk), "service:glue-warm", false, "another disk"},
		{look(disk), "masked", true, "other means"},
		{look(disk), "init-script:paper-rota", false, "init system"},
		{&theirs, "mine", false, "vendor"},
	} {
		it, err := Find(tt.look.Items(), tt.id)
		if err != nil {
			t.Fatal(err)
		}
		_, err = tt.look.Switch(&it, tt.on)
		var why *SwitchError
		if !errors.As(err, &why) || !strings.Contains(err.Error(), tt.want) || why.Remedy == "" {
			t.Errorf("%s: %v, want …%s…", tt.id, err, tt.want)
		}
	}
	it, _ := Find(l.Items(), "gone") // hidden by somebody else: shown, and hidden again just as it was
	changes, err := l.Switch(&it, true)
	if err != nil || !strings.Contains(string(changes[0].After.Text), "Hidden=false") {
		t.Errorf("%+v, %v", changes, err)
	}
	for name, want := range map[string]string{"gon": "did you mean", "are": "did you mean", "x": "no item", "bare": "several items"} {
		if _, err := Find(append(l.Items(), Item{ID: "service:bare"}), name); !strings.Contains(fmt.Sprint(err), want) {
			t.Errorf("Find(%q): %v, want %q", name, err, want)
		}
	}
}

// TestAdopt makes gates of items.
func TestAdopt(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	tree(t, root, machine)
	tree(t, root, map[string]string{
		"etc/systemd/system/multi-user.target.wants/forks.service": "->../forks.service",
		"etc/systemd/system/forks.service":                         "[Service]\nType=forking\nExecStart=/bin/run\n",
		"etc/systemd/system/multi-user.target.wants/pre.service":   "->../pre.service",
		"etc/systemd/system/pre.service":                           "[Service]\nExecStartPre=/bin/run\nExecStart=/bin/run\n",
		"etc/systemd/system/multi-user.target.wants/vars.service":  "->../vars.service",
		"etc/systemd/system/vars.service":                          "[Service]\nExecStart=/bin/run $OPTIONS\n",
	})
	items := look(root).Items()
	for _, tt := range []struct {
		id, name string
		scope    gate.Scope
		want     string // the gate's file, or part of an error
	}{
		{"own", "own", gate.User, "about = \"Own\"\nrun   = [\"/bin/run\"]\nfolder = \"/srv\"\nopens = [\n  \"logon\",\n]\ninstead_of = \"autostart:own\"\n\n[as]\ndesktop = true\nwindow = \"terminal\"\n"},
		{"proofs", "proofs", gate.User, "about = \"\"\nrun   = [\"/bin/run\", \"proofs\"]\nopens = [\n  \"logon\",\n]\ninstead_of = \"own-service:proofs\"\n\n[as]\npriority = \"low\"\nenv = { A = \"b c\", D = \"e\" }\nlost Restart=always"},
		{"service:glue-warm", "glue", gate.System, "about = \"Warms the glue for glue-warm\"\nrun   = [\"/bin/run\", \"--more\"]\nopens = [\n  \"boot\",\n]\ninstead_of = \"service:glue-warm\"\n\n[as]\nuser = \"maren\"\n"},
		{"shelf@a", "shelf", gate.System, "elevated = true"},
		{"service:glue-warm", "glue", gate.User, "adopt it as root"},
		{"proofs", "proofs", gate.System, "adopt it as that person"},
		{"forks", "f", gate.System, "type forking"}, {"pre", "p", gate.System, "ExecStartPre"}, {"vars", "v", gate.System, "variables"},
		{"paper-rota", "p", gate.System, "timegate add"}, {"noise", "n", gate.User, "cannot be started"},
	} {
		it, err := Find(items, tt.id)
		if err != nil {
			t.Fatal(err)
		}
		g, lost, err := it.Adopt(tt.name, tt.scope)
		got := fmt.Sprint(err)
		if err == nil {
			got = string(gate.Format(g))
			if len(lost) > 0 {
				got += "lost " + strings.Join(lost, ", ")
			}
		}
		if !strings.Contains(got, tt.want) || strings.Contains(tt.want, "run ") && got != tt.want {
			t.Errorf("%s in the %s scope\n got %s\nwant %s", tt.id, tt.scope, got, tt.want)
		}
	}
	for id, want := range map[string]string{"autostart:org.larkspur.JobBoard": "jobboard", "service:shelf@a": "shelf-a", "autostart:Ümlaut 2": "mlaut-2", "autostart:---": "adopted"} {
		if it := (Item{ID: id}); it.GateName() != want || !gate.ValidName(it.GateName()) {
			t.Errorf("the gate of %s is called %q, want %q", id, it.GateName(), want)
		}
	}
}

// TestMemory tells what was added, taken away and changed between looks.
func TestMemory(t *testing.T) {
	t.Parallel()
	h := home.At(t.TempDir(), gate.User)
	at := func(n int64) time.Time { return time.Unix(n*3600, 0).UTC() }
	item := func(id string, on bool, command ...string) Item {
		return Item{ID: id, Source: FromService, File: "/f/" + id, Enabled: on, Command: command}
	}
	for i, look := range [][]Item{
		{item("a", true, "x"), item("b", true), item("c", true)},
		{item("a", true, "x"), item("b", true), item("c", true)},
		{item("a", true, "y"), item("b", false), item("d", true)},
		{item("a", true, "y"), item("b", true), item("d", true)},
		{item("a", true, "y"), item("b", true), item("d", true), {ID: "timer:e", Source: FromTimer}}, // no look before took these in
	} {
		m, err := ReadMemory(h)
		if err != nil {
			t.Fatal(err)
		}
		if i == 4 {
			m.Sources = nil // as a version wrote it that knew fewer
		}
		m.Note(look, at(int64(i)))
		if err := m.Write(h); err != nil {
			t.Fatal(err)
		}
	}
	m, err := ReadMemory(h)
	if err != nil || m.Since != at(0) || m.Looked != at(4) || m.Items["timer:e"].File != "" || len(m.Items) != 4 {
		t.Fatalf("%+v, %v", m, err)
	}
	var got []string
	for _, c := range m.After(at(1)) {
		got = append(got, c.Text())
	}
	if want := "a starts another command; b was turned off; c is gone: /f/c; d was added by /f/d; b was turned on"; strings.Join(got, "; ") != want {
		t.Errorf("it tells %s\nwant %s", strings.Join(got, "; "), want)
	}
	if len(m.After(at(2))) != 1 || len(m.After(at(3))) != 0 {
		t.Errorf("after the third look: %v", m.After(at(2)))
	}
	if err := os.WriteFile(memoryFile(h), []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadMemory(h); err == nil || !strings.Contains(err.Error(), "move it aside") {
		t.Errorf("a damaged memory: %v", err)
	}
}

// FuzzUnit: whatever lies in a folder of units is read.
func FuzzUnit(f *testing.F) {
	f.Add("[Service]\nExecStart=@/bin/run a \\\n b\n")
	f.Add("=\n[\n]\n\\")
	f.Fuzz(func(t *testing.T, text string) {
		u := unit{name: "a@b.service", options: parseUnit([]byte(text))}
		list, err := u.commands("ExecStart")
		for _, argv := range list {
			if err == nil && len(argv) == 0 {
				t.Errorf("%q gives a command of nothing", text)
			}
		}
	})
}

// BenchmarkItems looks at 500 items.
func BenchmarkItems(b *testing.B) {
	root := b.TempDir()
	auto := filepath.Join(root, "autostart")
	if err := os.MkdirAll(auto, 0o755); err != nil {
		b.Fatal(err)
	}
	for i := range 500 {
		if err := os.WriteFile(filepath.Join(auto, fmt.Sprintf("e%d.desktop", i)), fmt.Appendf(nil, entry, fmt.Sprint("Entry ", i)), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	l := &Look{Own: root, Path: []string{"/bin"}}
	for b.Loop() {
		if got := l.autostarts(); len(got) != 500 {
			b.Fatal(len(got))
		}
	}
}
