//go:build linux

package accounts_test

import (
	"bufio"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/workstation/accounts"
	"timegate/workstation/wstest"
)

// lists gives this machine, in a mount namespace, accounts and a place where it looks
// for others.
func lists(t *testing.T, others string) {
	t.Helper()
	wstest.Do(t, "mount", "--make-rprivate", "/")
	dir := t.TempDir()
	for path, text := range map[string]string{
		"/etc/passwd":        "root:x:0:0:root:/root:/bin/sh\n+ines:x:1:1::/:/bin/sh\nmaren:x:61001:61001:Maren:/home/maren:\n61009:x:61002:61002::/home/digits:/bin/sh\nshort:x:1\n",
		"/etc/group":         "root:x:0:\nmaren:x:61001:\nbinders:x:61010:maren,tobias\n",
		"/etc/nsswitch.conf": "# passwd: sss\npasswd: files [NOTFOUND=continue] " + others + " # here\ngroup:" + others + "\n",
	} {
		file := filepath.Join(dir, filepath.Base(path))
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		wstest.Do(t, "mount", "--bind", file, path)
	}
}

// check compares what is found of accounts.
func check(t *testing.T, name string, want accounts.Account, groups ...uint32) {
	t.Helper()
	got, err := accounts.ByName(name)
	has, groupsErr := got.Groups()
	if err != nil || got.Name != want.Name || got.UID != want.UID || got.GID != want.GID || got.Folder != want.Folder || got.Shell != want.Shell || groupsErr != nil || !slices.Equal(has, groups) {
		t.Errorf("%s: %+v, %v, of %v (%v); want %+v of %v", name, got, err, has, groupsErr, want, groups)
	}
	if accounts.NameOf(want.UID) != name {
		t.Errorf("%d is %q", want.UID, accounts.NameOf(want.UID))
	}
}

// TestOwnLists: the machine's own lists are read, and nobody else is asked where
// nobody else is named.
func TestOwnLists(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	lists(t, "compat")
	check(t, "maren", accounts.Account{Name: "maren", UID: 61001, GID: 61001, Folder: "/home/maren"}, 61001, 61010)
	check(t, "61009", accounts.Account{Name: "61009", UID: 61002, GID: 61002, Folder: "/home/digits", Shell: "/bin/sh"}, 61002)
	for _, name := range []string{"ines", "+ines", "61001", "short", "", "-x"} {
		if a, err := accounts.ByName(name); !accounts.Unknown(err) {
			t.Errorf("%q is %+v, %v", name, a, err)
		}
	}
	if name, err := accounts.GroupName(61010); name != "binders" || err != nil {
		t.Error(name, err)
	}
	if _, err := accounts.GroupName(61001000); !accounts.Unknown(err) {
		t.Error(err)
	}
}

// TestDirectory: accounts that the name service switch has from elsewhere are found
// with their groups, and an account of the machine's has those that are given to it there.
func TestDirectory(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	if _, err := os.Stat("/usr/lib/libnss_extrausers.so.2"); err != nil {
		wstest.Skip(t, "needs the package libnss-extrausers")
	}
	lists(t, "files extrausers")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/var/lib/extrausers")
	for name, text := range map[string]string{
		"passwd": "ines:x:70001:70001:Ines:/srv/ines:/bin/sh\n",
		"group":  "ines:x:70001:\nfolders:x:70010:ines,maren\n",
	} {
		if err := os.WriteFile("/var/lib/extrausers/"+name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	check(t, "ines", accounts.Account{Name: "ines", UID: 70001, GID: 70001, Folder: "/srv/ines", Shell: "/bin/sh"}, 70001, 70010)
	check(t, "maren", accounts.Account{Name: "maren", UID: 61001, GID: 61001, Folder: "/home/maren"}, 61001, 61010, 70010)
	if name, err := accounts.GroupName(70010); name != "folders" || err != nil {
		t.Error(name, err)
	}
	for _, name := range []string{"tomas", "70001", "--help", "x:y"} {
		if a, err := accounts.ByName(name); !accounts.Unknown(err) {
			t.Errorf("%q is %+v, %v", name, a, err)
		}
	}
}

// TestRecords: where the init system's record service runs it is asked; one that says
// nothing is given up, and whether there is such an account is not known then.
func TestRecords(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	lists(t, "systemd")
	wstest.Do(t, "mount", "-t", "tmpfs", "tmpfs", "/run")
	if err := os.MkdirAll("/run/systemd/userdb", 0o755); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("unix", "/run/systemd/userdb/io.systemd.Multiplexer")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	const none = `{"error":"io.systemd.UserDatabase.NoRecordFound"}`
	ines := `{"parameters":{"record":{"userName":"ines","uid":70001,"gid":70002,"homeDirectory":"/srv/ines","shell":"/bin/zsh"},"incomplete":false}}`
	answers := map[string]string{
		`GetUserRecord "ines"`:     ines,
		`GetUserRecord 70001`:      ines,
		`GetUserRecord "liar"`:     ines,
		`GetUserRecord "cut"`:      `{"parameters":`,
		`GetMemberships "ines"`:    `{"parameters":{"userName":"ines","groupName":"folders"},"continues":true}` + "\x00" + `{"parameters":{"userName":"ines","groupName":"gone"}}`,
		`GetGroupRecord "folders"`: `{"parameters":{"record":{"groupName":"folders","gid":70010}}}`,
		`GetGroupRecord 70010`:     `{"parameters":{"record":{"groupName":"folders","gid":70010}}}`,
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				text, _ := bufio.NewReader(conn).ReadBytes(0)
				var call struct {
					Method     string
					Parameters map[string]json.RawMessage
				}
				if json.Unmarshal(text[:max(len(text)-1, 0)], &call) != nil || string(call.Parameters["service"]) != `"io.systemd.Multiplexer"` {
					return
				}
				key := strings.TrimPrefix(call.Method, "io.systemd.UserDatabase.")
				for _, arg := range []string{"userName", "uid", "groupName", "gid"} {
					if raw := call.Parameters[arg]; raw != nil {
						key += " " + string(raw)
					}
				}
				answer, ok := answers[key]
				if !ok {
					answer = none
				}
				conn.Write([]byte(answer + "\x00"))
			}()
		}
	}()
	check(t, "ines", accounts.Account{Name: "ines", UID: 70001, GID: 70002, Folder: "/srv/ines", Shell: "/bin/zsh"}, 70002, 70010)
	check(t, "maren", accounts.Account{Name: "maren", UID: 61001, GID: 61001, Folder: "/home/maren"}, 61001, 61010)
	if name, err := accounts.GroupName(70010); name != "folders" || err != nil {
		t.Error(name, err)
	}
	if a, err := accounts.ByName("tomas"); !accounts.Unknown(err) {
		t.Errorf("%+v, %v", a, err)
	}
	for _, name := range []string{"liar", "cut"} { // of nonsense nothing follows
		if a, err := accounts.ByName(name); err == nil || accounts.Unknown(err) {
			t.Errorf("%q is %+v, %v", name, a, err)
		}
	}

	// Nothing answers any more, by either way.
	l.Close()
	silent, err := net.Listen("unix", "/run/systemd/userdb/io.systemd.Multiplexer")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	began := time.Now()
	_, err = accounts.ByName("greta")
	if err == nil || accounts.Unknown(err) || time.Since(began) < accounts.Patience/2 {
		t.Errorf("%v after %v", err, time.Since(began))
	}
	if a, err := accounts.ByName("ines"); err != nil || a.Age != 0 {
		t.Errorf("within a minute, %+v, %v", a, err)
	}
}
