package desktop

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestCommand reads keys Exec, by the rules of the specification for quoting and field
// codes.
func TestCommand(t *testing.T) {
	for _, tt := range []struct {
		exec string
		want []string // nil: an error
	}{
		{`job-board`, []string{"job-board"}},
		{`/opt/larkspur/bin/job-board --desk front`, []string{"/opt/larkspur/bin/job-board", "--desk", "front"}},
		{`"/opt/larkspur/job board" "a \\"b\\" c"`, []string{"/opt/larkspur/job board", `a "b" c`}},
		{`printf "\\$HOME \\\\n \\` + "`" + `"`, []string{"printf", "$HOME \\n `"}},
		{`viewer %f`, []string{"viewer"}},
		{`viewer %U --title=%c %k 100%%`, []string{"viewer", "--title=Job board", "/usr/share/applications/board.desktop", "100%"}},
		{`viewer %i %d %m`, []string{"viewer", "--icon", "board"}},
		{`viewer ""`, []string{"viewer", ""}},
		{`viewer\sone`, []string{"viewer", "one"}},
		{`"viewer`, nil}, {``, nil}, {`%f`, nil}, {`""`, nil},
	} {
		e := Entry{Name: "Job board", Icon: "board", File: "/usr/share/applications/board.desktop", Exec: tt.exec}
		got, err := e.Command()
		if (err != nil) != (tt.want == nil) || !slices.Equal(got, tt.want) {
			t.Errorf("Exec=%s means %q, %v, want %q", tt.exec, got, err, tt.want)
		}
	}
	for _, argument := range []string{"plain", `a "b"`, "$HOME `x` \\ %f", "ü ☂"} { // what Quote writes is read back
		e := Entry{Exec: "x " + Quote(argument)}
		if got, err := e.Command(); err != nil || len(got) != 2 || got[1] != argument {
			t.Errorf("%q, quoted, is read as %q, %v", argument, got, err)
		}
	}
}

// TestLocalized finds the value for a language in the order of the specification.
func TestLocalized(t *testing.T) {
	group := map[string]string{"Name": "Board", "Name[de]": "Tafel", "Name[de_AT]": "Tafl", "Name[sr@latin]": "Tabla", "Name[sr_YU@latin]": "Tablica"}
	for locale, want := range map[string]string{"": "Board", "C": "Board", "de": "Tafel", "de_DE.UTF-8": "Tafel", "de_AT.UTF-8": "Tafl", "sr_YU@latin": "Tablica", "sr_RS@latin": "Tabla", "sr": "Board", "fr_FR": "Board"} {
		if got := localized(group, "Name", locale); got != want {
			t.Errorf("in %q it is %q, want %q", locale, got, want)
		}
	}
	if got := list(`books;paper\;board;;\\x`); !slices.Equal(got, []string{"books", "paper;board", `\x`}) {
		t.Errorf("a list is read as %q", got)
	}
}

// menu writes entries into two folders of applications and returns these.
func menu(t *testing.T) []string {
	t.Helper()
	own, all := t.TempDir(), t.TempDir()
	for path, text := range map[string]string{
		own + "/board.desktop":              "[Desktop Entry]\nType=Application\nName=Job board\nName[de]=Auftragstafel\nComment=Shows the day's jobs\nKeywords=orders;binding;\nExec=sh --board %U\nPath=/srv\nActions=print;empty;\n\n[Desktop Action print]\nName=Print\nExec=sh --print\n\n[Desktop Action empty]\nName=Empty\n",
		all + "/board.desktop":              "[Desktop Entry]\nType=Application\nName=An older board\nExec=sh\n",
		own + "/gone.desktop":               "[Desktop Entry]\nType=Application\nName=Gone\nExec=sh\nHidden=true\n",
		all + "/gone.desktop":               "[Desktop Entry]\nType=Application\nName=Gone but there\nExec=sh\n",
		all + "/press/glue.desktop":         "# a comment\n[Desktop Entry]\nType=Application\nName=Glue warmer\nGenericName=Heater\nExec=sh\nTerminal=true\n",
		all + "/helper.desktop":             "[Desktop Entry]\nType=Application\nName=Helper\nExec=sh\nNoDisplay=true\n",
		all + "/elsewhere.desktop":          "[Desktop Entry]\nType=Application\nName=Elsewhere\nExec=sh\nOnlyShowIn=Bindery;\n",
		all + "/nothere.desktop":            "[Desktop Entry]\nType=Application\nName=Not here\nExec=sh\nNotShowIn=Press;Bindery\n",
		all + "/uninstalled.desktop":        "[Desktop Entry]\nType=Application\nName=Uninstalled\nExec=sh\nTryExec=/opt/larkspur/bin/nothing\n",
		all + "/link.desktop":               "[Desktop Entry]\nType=Link\nName=A link\nURL=https://larkspur.example\n",
		all + "/noise.txt":                  "[Desktop Entry]\nType=Application\nName=Noise\nExec=sh\n",
		all + "/broken.desktop":             "no group\nName=Broken\n[Desktop Entry\nType=Application\n",
		all + "/twice.desktop":              "[Desktop Entry]\nType=Application\nName=First\nName=Second\nExec=sh\n",
		all + "/a-very-long.desktop":        "[Desktop Entry]\nType=Application\nName=Long\nExec=sh " + strings.Repeat("x", 100_000) + "\n",
		all + "/deep/er/paper-rota.desktop": "[Desktop Entry]\nType=Application\nName=Paper rota\nExec=sh\n",
	} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	return []string{own, all, "/nowhere"}
}

// TestApplications: what menus show is what can be started, by the rules of the
// specification: the first folder counts, what is deleted or not installed is left
// out, and so is what is for another desktop.
func TestApplications(t *testing.T) {
	folders := menu(t)
	names := func(look Look) string {
		look.Folders = folders
		var out []string
		for _, e := range Applications(look) {
			out = append(out, e.ID+" "+e.Name)
		}
		return strings.Join(out, ", ")
	}
	const common = "a-very-long.desktop Long, board.desktop %s, board.desktop:print %s: Print, deep-er-paper-rota.desktop Paper rota, "
	want := func(board, rest string) string { return strings.ReplaceAll(common, "%s", board) + rest }
	for _, tt := range []struct {
		look Look
		want string
	}{
		{Look{}, want("Job board", "nothere.desktop Not here, press-glue.desktop Glue warmer, twice.desktop First")},
		{Look{Locale: "de_DE.UTF-8", Desktops: []string{"Bindery"}}, want("Auftragstafel", "elsewhere.desktop Elsewhere, press-glue.desktop Glue warmer, twice.desktop First")},
		{Look{Desktops: []string{"Other", "Press"}}, want("Job board", "press-glue.desktop Glue warmer, twice.desktop First")},
		{Look{All: true}, want("Job board", "elsewhere.desktop Elsewhere, helper.desktop Helper, nothere.desktop Not here, press-glue.desktop Glue warmer, twice.desktop First")},
	} {
		if got := names(tt.look); got != tt.want {
			t.Errorf("%+v\n got %s\nwant %s", tt.look, got, tt.want)
		}
	}
}

// TestFind ranks what words mean: names before what things are for, typing errors last.
func TestFind(t *testing.T) {
	entries := Applications(Look{Folders: menu(t), All: true})
	bin := t.TempDir()
	for name, mode := range map[string]os.FileMode{"stock-count": 0o755, "board-lister": 0o755, "notes.txt": 0o644} {
		if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\n"), mode); err != nil {
			t.Fatal(err)
		}
	}
	entries = append(entries, Programs([]string{bin, bin, "relative", "/nowhere"})...)
	for words, want := range map[string]string{
		"job board":   "board.desktop board.desktop:print",
		"board":       "board.desktop board.desktop:print board-lister",
		"orders":      "board.desktop board.desktop:print",
		"heater":      "press-glue.desktop",
		"gleu":        "press-glue.desktop",
		"stokcount":   "stock-count",
		"stck":        "stock-count",
		"paper":       "deep-er-paper-rota.desktop",
		"notes":       "",
		"zz":          "",
		"board zebra": "",
	} {
		var got []string
		all, _ := Find(entries, strings.Fields(words))
		for _, e := range all {
			got = append(got, e.ID)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %q, want %q", words, got, want)
		}
	}
}

// TestFindKinds: what a program is for is found by the categories of menus, what can be
// started on a desktop comes first, and one wrong letter is none.
func TestFindKinds(t *testing.T) {
	app := func(id, name, exec string, categories ...string) Entry {
		return Entry{ID: id + ".desktop", Name: name, Exec: exec, File: "/menu/" + id + ".desktop", Categories: categories}
	}
	entries := []Entry{
		app("plates", "Plates", "plates", "Graphics", "Photography", "Viewer"), app("reel", "Reel", "reel", "AudioVideo", "Video", "Player"), app("shell-window", "Shell window", "xterm", "System", "TerminalEmulator"),
		app("pages", "Pages", "pages", "Network", "WebBrowser"), {ID: "xterm", Name: "xterm", Exec: "/bin/xterm"}, {ID: "terminal-size", Name: "terminal-size", Exec: "/bin/terminal-size"}, {ID: "extremes", Name: "extremes", Exec: "/bin/extremes"},
	}
	for words, want := range map[string]string{"pictures": "plates.desktop", "photo": "plates.desktop", "film": "reel.desktop", "movies": "reel.desktop", "browser": "pages.desktop", "web": "pages.desktop",
		"terminal": "shell-window.desktop terminal-size", "graphics": "plates.desktop", "xtrem": "shell-window.desktop extremes", "brwoser": "", "games": ""} {
		var got []string
		all, _ := Find(entries, strings.Fields(words))
		for _, e := range all {
			got = append(got, e.ID)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %q, want %q", words, got, want)
		}
	}
}

// FuzzEntry: whatever lies in a folder of applications is read, and what its Exec means
// can be written and read again.
func FuzzEntry(f *testing.F) {
	for _, text := range []string{"[Desktop Entry]\nType=Application\nName=a\nExec=\"b c\" %f\n", "[Desktop Entry]\nExec=\\", "[]\n=\n", "Exec=a\n[Desktop Entry]\nExec=%%%c\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		e := entryOf(readKeyFile([]byte(text))[mainGroup], "de_AT@x")
		argv, err := e.Command()
		if err != nil {
			return
		}
		var quoted []string
		for _, a := range argv {
			quoted = append(quoted, Quote(a))
		}
		again := Entry{Exec: strings.Join(quoted, " ")}
		if got, err := again.Command(); err != nil || !slices.Equal(got, argv) {
			t.Errorf("%q is written as %s and read as %q, %v", argv, again.Exec, got, err)
		}
	})
}
