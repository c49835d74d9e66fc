//go:build linux

package estate

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/estate"
	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation"
	"timegate/workstation/wstest"
)

// TestKeepersInNetworks: three real keepers in networks of their own, and a real broker with TLS,
// passwords and rules. A bundle is taken by all; one that fails stops by itself, while the cable
// of one workstation is cut, the disk of another is full, and the broker has died and come back:
// neither takes it later, and all go back to what they had.
func TestKeepersInNetworks(t *testing.T) {
	wstest.Need(t, "ip", "iproute2")
	wstest.Need(t, "nsenter", "util-linux")
	if !wstest.Alone(t, syscall.CLONE_NEWNET|syscall.CLONE_NEWNS) {
		return
	}
	program := built(t)
	names := []string{"front-desk", "press-room", "studio-laptop"}
	away := networks(t, len(names))
	r := startBrokerAt(t, "0.0.0.0", away[0].here, away[1].here, away[2].here)
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	write := func(path string, data []byte) {
		t.Helper()
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write(at("authority.pem"), r.authority)
	trust, err := KeyText(publicOf("maren"))
	if err != nil {
		t.Fatal(err)
	}
	disk := at("studio-laptop") // of its own, and small
	if err := os.Mkdir(disk, 0o700); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "-t", "tmpfs", "-o", "size=8m", "tmpfs", disk)
	t.Cleanup(func() { wstest.Do(t, "umount", disk) }) // after its keeper has ended
	for i, name := range names {
		write(at(name+".secret"), []byte("secret-"+name))
		s := &Settings{Broker: fmt.Sprintf("mqtts://%s:%d", away[i].here, r.port), Shop: "larkspur", Trust: []string{trust}, Need: 1, Authority: at("authority.pem"), User: name, PasswordFile: at(name + ".secret")}
		if err := s.Write(home.At(at(name), gate.User)); err != nil {
			t.Fatal(err)
		}
		keeper := exec.Command("nsenter", "--target", away[i].pid, "--net", program, "--home", at(name), "keeper", "run")
		keeper.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=" + dir, workstation.HostVariable + "=" + name}
		if err := keeper.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { keeper.Process.Signal(syscall.SIGTERM); keeper.Wait() })
	}
	d := openDesk(t, r)
	for _, name := range names {
		wstest.Await(t, name+" to be let in", func() bool { _, err := d.Accept(name); return err == nil })
	}
	maren := []ed25519.PrivateKey{keyOf("maren")}
	publish := func(b *estate.Bundle) {
		t.Helper()
		b.Expires, b.Plan = time.Now().Add(time.Hour), estate.Plan{Waves: []estate.Wave{{Rest: true}}, After: time.Hour, Limits: []estate.Limit{{Of: estate.Failed}}}
		raw, err := d.Make(b, time.Now(), maren)
		if err == nil {
			_, err = d.Publish(t.Context(), raw, time.Now(), maren)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	has := func(number int64, names ...string) func() bool {
		return func() bool {
			for _, h := range d.Hosts() {
				if slices.Contains(names, h.Host) && (h.Last == nil || h.Last.Bundle.Number != number || h.Last.Bundle.State != estate.Taken) {
					return false
				}
			}
			return true
		}
	}
	bundle := func(opens string) *estate.Bundle {
		return &estate.Bundle{Content: map[string][]byte{"gates/stock-count.toml": []byte("run = [\"/bin/false\"]\nopens = [\"" + opens + "\"]\n")}}
	}
	publish(bundle("signal now"))
	wstest.Await(t, "the first bundle", has(1, names...))

	wstest.Do(t, "ip", "link", "set", away[1].cable, "down") // the press room's
	full, err := os.Create(filepath.Join(disk, "full"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := full.Write(make([]byte, 16<<20)); !errors.Is(err, syscall.ENOSPC) {
		t.Fatalf("the disk is not full: %v", err)
	}
	full.Close()
	// Its keeper may give some room back; a new file finds none all the same.
	var fs syscall.Statfs_t
	if err := syscall.Statfs(disk, &fs); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "-o", fmt.Sprintf("remount,nr_inodes=%d", fs.Files-fs.Ffree), disk)
	r.kill()
	r.begin(t)
	wstest.Await(t, "the desk to reach the broker again", func() bool { return d.Trouble() == "" })
	publish(bundle("every 1s"))
	wstest.Await(t, "the wave to stop", func() bool {
		v, err := d.Step(t.Context(), time.Now(), maren)
		return err == nil && v.Do == estate.Stop
	})
	if _, release := d.Bundle(); !release.Held || !strings.HasPrefix(release.Why, "failed on 1 of 3") {
		t.Errorf("%+v", release)
	}

	if err := os.Remove(filepath.Join(disk, "full")); err != nil {
		t.Fatal(err)
	}
	wstest.Do(t, "mount", "-o", "remount,nr_inodes=0", disk)
	wstest.Do(t, "ip", "link", "set", away[1].cable, "up")
	told := func(name string) time.Time {
		for _, h := range d.Hosts() {
			if h.Host == name {
				return h.Told
			}
		}
		return time.Time{}
	}
	before := told("press-room")
	wstest.Await(t, "the press room to be there again", func() bool { return told("press-room").After(before) })
	if !has(1, "press-room", "studio-laptop")() || !has(2, "front-desk")() {
		for _, h := range d.Hosts() {
			t.Errorf("of a bundle that is held %s has %+v", h.Host, h.Last.Bundle)
		}
	}
	last, err := d.TakeBack(time.Now())
	if err != nil {
		t.Fatal(err)
	}
	publish(last)
	wstest.Await(t, "what was there before", has(3, names...))
}
