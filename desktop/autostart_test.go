package desktop

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestAutostarts: by the rules of the specification the most important file of a name
// counts, and it alone, whatever is wrong with it; what it says of desktops and programs
// is told, and judged by others.
func TestAutostarts(t *testing.T) {
	own, all, more := t.TempDir(), t.TempDir(), t.TempDir()
	const run = "[Desktop Entry]\nType=Application\nName=%\nExec=sh\n"
	for path, text := range map[string]string{
		own + "/board.desktop":    strings.Replace(run, "%", "Own board", 1),
		all + "/board.desktop":    strings.Replace(run, "%", "Their board", 1),
		more + "/board.desktop":   strings.Replace(run, "%", "Another board", 1),
		own + "/hidden.desktop":   "[Desktop Entry]\nHidden=true\n",
		all + "/hidden.desktop":   strings.Replace(run, "%", "Hidden", 1),
		own + "/shown.desktop":    strings.Replace(run, "%", "Shown", 1) + "Hidden=false\n",
		all + "/shown.desktop":    strings.Replace(run, "%", "Not shown", 1) + "Hidden=true\n",
		own + "/damaged.desktop":  "nothing",
		all + "/damaged.desktop":  strings.Replace(run, "%", "Sound", 1),
		all + "/german.desktop":   strings.Replace(run, "%", "Board", 1) + "Name[de]=Tafel\nOnlyShowIn=Press;Bindery;\nTryExec=nothing-there\n",
		more + "/press.desktop":   strings.Replace(run, "%", "Press", 1) + "NotShowIn=Bindery\n",
		more + "/.dot.desktop":    strings.Replace(run, "%", "Dot", 1),
		more + "/readme":          "nothing",
		more + "/sub/in.desktop":  strings.Replace(run, "%", "Below", 1),
		more + "/service.desktop": "[Desktop Entry]\nType=Service\nName=S\nExec=sh\n",
	} {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	look := Look{Folders: []string{own, all, "/nowhere", more}, Locale: "de_DE.UTF-8", Desktops: []string{"Bindery"}}
	var got []string
	for _, a := range Autostarts(look, func(path string) (string, error) { return path, nil }) {
		text := strings.TrimSuffix(a.ID, ".desktop") + " " + a.Name
		switch {
		case a.Hidden:
			text += " hidden"
		case a.Shown:
			text += " here"
		}
		text += " " + a.Only + " " + a.TryExec + " " + a.Problem + " over " + strings.NewReplacer(own, "own", all, "all", more, "more").Replace(a.Over)
		got = append(got, strings.Join(strings.Fields(text), " "))
	}
	want := []string{
		"board Own board here over all/board.desktop", "damaged here it has no group [Desktop Entry] over all/damaged.desktop",
		"german Tafel here for Press, Bindery nothing-there over", "hidden hidden over all/hidden.desktop", "press Press not for Bindery over",
		"service S here its type is \"Service\", and only an Application can be started over", "shown Shown here over all/shown.desktop",
	}
	for i := range max(len(got), len(want)) {
		g, w := "", ""
		if i < len(got) {
			g = got[i]
		}
		if i < len(want) {
			w = want[i]
		}
		if g != w {
			t.Errorf("entry %d\n got %s\nwant %s", i, g, w)
		}
	}
}
