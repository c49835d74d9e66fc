//go:build linux

package linux_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/core/phrase"
	"timegate/workstation"
	"timegate/workstation/wstest"

	"golang.org/x/sys/unix"
)

// touch writes a file, with the folders above it.
func touch(t testing.TB, path string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(path), 0o644); err != nil {
		t.Fatal(err)
	}
}

// changes collects what was told to have changed, until all of want was. What had changed
// before may be told once more.
func changes(t *testing.T, ws workstation.Workstation, dir string, before []string, want ...string) {
	t.Helper()
	seen := map[string]bool{}
	late := time.After(20 * time.Second)
	for _, w := range want {
		for !seen[w] {
			select {
			case n := <-ws.Notices():
				for _, f := range n.Files {
					rel, err := filepath.Rel(dir, f)
					if err != nil {
						t.Fatal(err)
					}
					seen[rel] = true
				}
			case <-late:
				t.Fatalf("%s was not told to have changed; %v were", w, seen)
			}
		}
	}
	for s := range seen {
		if !slices.Contains(want, s) && !slices.Contains(before, s) {
			t.Errorf("%s was told to have changed, and had not", s)
		}
	}
}

func TestChanges(t *testing.T) {
	t.Parallel()
	rename := func(a, b string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			if err := os.Rename(filepath.Join(dir, a), filepath.Join(dir, b)); err != nil {
				t.Fatal(err)
			}
		}
	}
	write := func(names ...string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			for _, n := range names {
				touch(t, filepath.Join(dir, n))
			}
		}
	}
	remove := func(name string) func(*testing.T, string) {
		return func(t *testing.T, dir string) {
			if err := os.RemoveAll(filepath.Join(dir, name)); err != nil {
				t.Fatal(err)
			}
		}
	}
	type step struct {
		do   func(*testing.T, string)
		want []string
	}
	for _, tt := range []struct {
		name, before, phrase string // DIR stands for the test's folder
		steps                []step
	}{
		{"a file in a folder", "in/x", "change in DIR/in", []step{{write("in/proof.pdf"), []string{"in/proof.pdf"}}, {remove("in/proof.pdf"), []string{"in/proof.pdf"}}}},
		{"deep in folders made just now", "in/x", "change in DIR/in", []step{{write("in/a/b/c/proof.pdf"), []string{"in/a", "in/a/b", "in/a/b/c", "in/a/b/c/proof.pdf"}}, {write("in/a/b/c/2"), []string{"in/a/b/c/2"}}}},
		{"a pattern", "in/x", "change in DIR/in matching *.pdf", []step{{write("in/a.txt", "in/b/a.pdf"), []string{"in/b/a.pdf"}}}},
		{"a pattern with a folder", "in/x", "change in DIR/in matching new/*.pdf", []step{{write("in/a.pdf", "in/new/a.pdf"), []string{"in/new/a.pdf"}}}},
		{"one file", "in/x", "change in DIR/in/x", []step{{write("in/y", "in/x"), []string{"in/x"}}}},
		{"a file put in its place", "in/x", "change in DIR/in/x", []step{{write("in/y"), nil}, {rename("in/y", "in/x"), []string{"in/x"}}, {write("in/x"), []string{"in/x"}}}},
		{"several folders", "in/x", "change in DIR/in, DIR/out", []step{{write("out/1", "in/1"), []string{"out", "out/1", "in/1"}}}},
		{"a folder that comes later", "x", "change in DIR/a/b/in", []step{{write("a/b/in/1"), []string{"a/b/in", "a/b/in/1"}}}},
		{"a folder deleted and made anew", "in/x", "change in DIR/in", []step{{remove("in"), []string{"in", "in/x"}}, {write("in/2"), []string{"in", "in/2"}}, {write("in/3"), []string{"in/3"}}}},
		{"a folder put aside and made anew", "in/x", "change in DIR/in", []step{{rename("in", "old"), []string{"in"}}, {write("old/no", "in/2"), []string{"in", "in/2"}}, {write("old/no2", "in/3"), []string{"in/3"}}}},
		{"a folder that is renamed inside", "in/a/x", "change in DIR/in", []step{{rename("in/a", "in/b"), []string{"in/a", "in/b", "in/b/x"}}, {write("in/b/y"), []string{"in/b/y"}}}},
		{"through a link", "real/x", "change in DIR/link", []step{{func(t *testing.T, dir string) {
			if err := os.Symlink("real", filepath.Join(dir, "link")); err != nil {
				t.Fatal(err)
			}
		}, []string{"link", "link/x"}}, {write("real/a/proof.pdf"), []string{"link/a", "link/a/proof.pdf"}}}},
		{"a folder that is moved in", "in/x", "change in DIR/in", []step{{write("out/a/1"), nil}, {rename("out", "in/out"), []string{"in/out", "in/out/a", "in/out/a/1"}}, {write("in/out/a/2"), []string{"in/out/a/2"}}}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			dir, err := filepath.EvalSymlinks(t.TempDir())
			if err != nil {
				t.Fatal(err)
			}
			touch(t, filepath.Join(dir, tt.before))
			m := machine(t)
			<-m.Watch(wantsOf(t, strings.ReplaceAll(tt.phrase, "DIR", dir)))
			var before []string
			for _, s := range tt.steps {
				s.do(t, dir)
				changes(t, m, dir, before, s.want...)
				before = s.want
			}
			wstest.Await(t, "no trouble", func() bool { return len(m.Troubles()) == 0 })
		})
	}
}

// TestMissedChanges: what has changed while nobody watched is told by the files' times: new
// and written ones, and the folder of which something has gone; nothing else, and what comes
// then as always.
func TestMissedChanges(t *testing.T) {
	t.Parallel()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"old.pdf", "written.pdf", "in/gone.pdf", "in/stays.pdf", "moved.pdf", "calm/x.pdf"} {
		touch(t, filepath.Join(dir, name))
	}
	const tick = 20 * time.Millisecond // more than the kernel's clock of files
	time.Sleep(tick)
	since := time.Now()
	time.Sleep(tick)
	touch(t, filepath.Join(dir, "written.pdf"))
	touch(t, filepath.Join(dir, "new.pdf"))
	touch(t, filepath.Join(dir, "new.txt"))
	os.Remove(filepath.Join(dir, "in/gone.pdf"))
	os.Rename(filepath.Join(dir, "moved.pdf"), filepath.Join(dir, "away.pdf"))
	for _, tt := range []struct {
		phrase string
		since  time.Time
		want   []string
	}{
		{"change in DIR/calm", since, nil},
		{"change in DIR", since, []string{"written.pdf", "new.pdf", "new.txt", "in", "away.pdf", "calm"}}, // of which a probe has gone
		{"change in DIR matching *.pdf", since, []string{"written.pdf", "new.pdf", "away.pdf"}},
		{"change in DIR/in, DIR/nowhere", since, []string{"in"}},
		{"change in DIR", time.Time{}, nil},
		{"change in DIR", time.Now().Add(time.Hour), nil},
	} {
		m := machine(t)
		w := wantsOf(t, strings.ReplaceAll(tt.phrase, "DIR", dir))
		w.Watches[0].Since = tt.since
		<-m.Watch(w)
		if len(tt.want) > 0 {
			n := <-m.Notices()
			var got []string
			for _, f := range n.Files {
				rel, err := filepath.Rel(dir, f)
				if err != nil {
					t.Fatal(err)
				}
				got = append(got, rel)
			}
			slices.Sort(got)
			slices.Sort(tt.want)
			if !slices.Equal(got, tt.want) || n.Missed.Before(since) || n.Missed.After(time.Now()) || n.Count != int64(len(tt.want)) {
				t.Errorf("%s: %d missed until %v: %v, want %v", tt.phrase, n.Count, n.Missed, got, tt.want)
			}
		}
		probe := "calm/probe.pdf"
		if strings.Contains(tt.phrase, "DIR/in") {
			probe = "in/probe.pdf"
		}
		probe = filepath.Join(dir, probe)
		touch(t, probe)
		for n := range m.Notices() {
			if n.Event == phrase.Change {
				if !n.Missed.IsZero() {
					t.Errorf("%s: %v told as missed", tt.phrase, n.Files)
				}
				break
			}
		}
		os.Remove(probe)
	}
}

// TestManyFolders watches 20,000 folders, and says what to do where the
// kernel allows fewer.
func TestManyFolders(t *testing.T) {
	if testing.Short() {
		t.Skip("not in a short run: makes 20,000 folders")
	}
	// Limits are per user namespace: nobody else is short of watches.
	if !wstest.Alone(t, syscall.CLONE_NEWUSER) {
		return
	}
	dir := t.TempDir()
	for i := range 20_000 {
		if err := os.MkdirAll(filepath.Join(dir, fmt.Sprint(i/200), fmt.Sprint(i)), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	m := machine(t)
	began := time.Now()
	<-m.Watch(wantsOf(t, "change in "+dir))
	t.Logf("watched after %v", time.Since(began))
	touch(t, filepath.Join(dir, "99", "19999", "proof.pdf"))
	changes(t, m, dir, nil, "99/19999/proof.pdf")

	if err := os.WriteFile("/proc/sys/user/max_inotify_watches", []byte("23000"), 0o644); err != nil {
		t.Fatal(err)
	}
	second := machine(t)
	<-second.Watch(wantsOf(t, "change in "+dir))
	wstest.Await(t, "the trouble", func() bool {
		list := second.Troubles()
		return len(list) == 1 && strings.Contains(list[0].Why, "sysctl -w fs.inotify.max_user_watches=") && strings.HasPrefix(list[0].What, "change in "+dir)
	})
}

func TestLines(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	path := filepath.Join(dir, "press.log")
	add := func(name, text string) {
		t.Helper()
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		if err == nil {
			_, err = f.WriteString(text)
			f.Close()
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	add("press.log", "glue low: before anybody watched\n")
	m := machine(t)
	<-m.Watch(wantsOf(t, `line "glue (low|out)" in `+path))
	// want waits until the lines are told of, in one notice or in several.
	want := func(count int64, last string) {
		t.Helper()
		var n int64
		for n < count {
			select {
			case notice := <-m.Notices():
				if notice.Event == phrase.Line {
					n += notice.Count
					if n == count && notice.Text != last {
						t.Errorf("the last line is %.80q, want %.80q", notice.Text, last)
					}
				}
			case <-time.After(20 * time.Second):
				t.Fatalf("%d lines were told of, want %d, the last %.80q", n, count, last)
			}
		}
		if n != count {
			t.Errorf("%d lines were told of, want %d", n, count)
		}
	}
	add("press.log", "ink low\nglue lo")
	add("press.log", "w: 1\x00\xff\r\n")
	want(1, "glue low: 1??")
	add("press.log", strings.Repeat("glue out: many\n", 50_000))
	want(50_000, "glue out: many")
	if err := os.Rename(path, path+".1"); err != nil {
		t.Fatal(err)
	}
	add("press.log.1", "glue low: the writer has not noticed\n")
	want(1, "glue low: the writer has not noticed")
	add("press.log", "glue low: in the new file\n")
	want(1, "glue low: in the new file")
	if err := os.Truncate(path, 0); err != nil {
		t.Fatal(err)
	}
	add("press.log", "glue low: cut\n")
	want(1, "glue low: cut")
	add("press.log", "glue low "+strings.Repeat("x", 1<<20)+" glue out\nglue low: short\n")
	want(2, "glue low: short")
	if err := os.Remove(path); err != nil {
		t.Fatal(err)
	}
	add("press.log", "glue out: made anew\n")
	want(1, "glue out: made anew")
	// The log becomes a link to one in another folder.
	if err := os.MkdirAll(filepath.Join(dir, "logs"), 0o755); err != nil {
		t.Fatal(err)
	}
	add("logs/today", "glue out: in the other folder\n")
	if err := os.Symlink("logs/today", path+".new"); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		t.Fatal(err)
	}
	want(1, "glue out: in the other folder")
	add("logs/today", "glue out: and again\n")
	want(1, "glue out: and again")
}

// TestPlaces: whether paths are there is known at once and told when it
// changes, also where a mount hides or shows them.
func TestPlaces(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	wstest.Do(t, "mount", "--make-rprivate", "/")
	dir := t.TempDir()
	vault, later, flag := filepath.Join(dir, "vault"), filepath.Join(dir, "a", "b", "c"), filepath.Join(dir, "vault", "flag")
	touch(t, flag)
	m := machine(t)
	w := wstest.Wants(t, fmt.Sprintf("paths = [%q, %q, %q]", vault, later, flag), "mount "+vault, "unmount "+vault)
	<-m.Watch(w)
	have := func(want ...string) {
		t.Helper()
		wstest.Await(t, fmt.Sprint(want), func() bool { return slices.Equal(m.Facts().Paths, want) })
	}
	if got := m.Facts().Paths; !slices.Equal(got, []string{vault, flag}) {
		t.Errorf("at once: %v", got)
	}
	got := wstest.Hear(t, m)
	if err := os.MkdirAll(later, 0o755); err != nil {
		t.Fatal(err)
	}
	have(later, vault, flag)
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", vault)
	got("mount " + vault)
	have(later, vault)
	wstest.Do(t, "umount", vault)
	got("unmount " + vault)
	have(later, vault, flag)
	for range coretest.Size(2000, 200, 50) { // each comes while the one before is being told
		if err := unix.Mount("tmpfs", vault, "tmpfs", 0, ""); err != nil {
			t.Fatal(err)
		}
		got("mount " + vault)
		if err := unix.Unmount(vault, unix.MNT_DETACH); err != nil {
			t.Fatal(err)
		}
		got("unmount " + vault)
	}
	if err := os.RemoveAll(filepath.Join(dir, "a")); err != nil {
		t.Fatal(err)
	}
	have(vault, flag)
	<-m.Watch(wantsOf(t, "unlock"))
	have()
}

// BenchmarkChanges is the cost of a change in a folder that is watched, beside
// that of the change itself.
func BenchmarkChanges(b *testing.B) {
	change := func(b *testing.B, dir string) {
		for i := 0; b.Loop(); i++ {
			touch(b, filepath.Join(dir, fmt.Sprint(i%1000)))
		}
	}
	b.Run("floor: unwatched", func(b *testing.B) { change(b, b.TempDir()) })
	b.Run("watched", func(b *testing.B) {
		dir := b.TempDir()
		m := machine(b)
		<-m.Watch(wstest.Wants(b, "", "change in "+dir))
		go func() {
			for range m.Notices() {
			}
		}()
		change(b, dir)
	})
}
