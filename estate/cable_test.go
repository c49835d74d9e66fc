//go:build linux

package estate

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/core/estate"
	"timegate/workstation/wstest"
)

// cabled is a workstation in a network of its own, behind a cable.
type cabled struct {
	*running
	cable string // its end at the broker
}

// sent is how much has gone through a cable to the workstation.
func (c *cabled) sent(t *testing.T) int {
	t.Helper()
	data, err := os.ReadFile("/sys/class/net/" + c.cable + "/statistics/tx_bytes")
	if err != nil {
		t.Fatal(err)
	}
	n, err := strconv.Atoi(strings.TrimSpace(string(data)))
	if err != nil {
		t.Fatal(err)
	}
	return n
}

// network is a network of its own, behind a cable.
type network struct {
	pid   string // of a process in it
	cable string // its end here
	here  string // the address of that
}

// networks makes networks behind cables. The test must be alone.
func networks(t *testing.T, n int) (out []network) {
	t.Helper()
	wstest.Do(t, "mount", "-t", "sysfs", "sysfs", "/sys") // it shows the networks of the one who mounts it
	wstest.Do(t, "ip", "link", "set", "lo", "up")
	address := func(i, end int) string { return fmt.Sprintf("10.77.%d.%d", i, end) }
	for i := range n {
		one := exec.Command("unshare", "--net", "sleep", "600")
		one.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		if err := one.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { one.Process.Kill(); one.Wait() })
		pid := strconv.Itoa(one.Process.Pid)
		wstest.Await(t, "a network of its own", func() bool {
			mine, err := os.Readlink("/proc/self/ns/net")
			its, otherErr := os.Readlink("/proc/" + pid + "/ns/net")
			return err == nil && otherErr == nil && mine != its
		})
		cable := "cable" + strconv.Itoa(i)
		wstest.Do(t, "ip", "link", "add", cable, "type", "veth", "peer", "name", "eth0", "netns", pid)
		wstest.Do(t, "ip", "addr", "add", address(i, 1)+"/24", "dev", cable)
		wstest.Do(t, "ip", "link", "set", cable, "up")
		wstest.Do(t, "nsenter", "--target", pid, "--net", "ip", "addr", "add", address(i, 2)+"/24", "dev", "eth0")
		wstest.Do(t, "nsenter", "--target", pid, "--net", "ip", "link", "set", "eth0", "up")
		out = append(out, network{pid, cable, address(i, 1)})
	}
	return out
}

// openDesk opens maren's desk until the test ends.
func openDesk(t *testing.T, r *realBroker) *Desk {
	t.Helper()
	ctx, enough := context.WithTimeout(t.Context(), 20*time.Second)
	defer enough()
	d, err := Open(ctx, r.reached("maren"), []ed25519.PublicKey{publicOf("maren")}, 1, &Known{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(d.Close)
	return d
}

// TestCable: three workstations in networks of their own; the cable of one is slow, and is cut
// in the middle of a bundle. The others have it meanwhile, and that one once the cable is
// whole again; half a bundle is never taken.
func TestCable(t *testing.T) {
	for _, program := range []string{"ip", "tc"} {
		wstest.Need(t, program, "iproute2")
	}
	if !wstest.Alone(t, syscall.CLONE_NEWNET|syscall.CLONE_NEWNS) {
		return
	}
	names := []string{"press-room", "front-desk", "studio-laptop"}
	away := networks(t, len(names))
	r := startBrokerAt(t, "0.0.0.0", away[0].here, away[1].here, away[2].here)
	hosts := map[string]*cabled{}
	for i, name := range names {
		b := r.reached(name)
		b.URL = fmt.Sprintf("mqtts://%s:%d", away[i].here, r.port)
		hosts[name] = &cabled{runFrom(t, b, name, &fakeKeeper{}, &memory{}, func(argument string, files []*os.File) (*os.Process, error) {
			cmd := exec.Command("nsenter", "--target", away[i].pid, "--net", os.Args[0], argument)
			cmd.ExtraFiles = files
			err := cmd.Start()
			return cmd.Process, err
		}), away[i].cable}
	}
	d := openDesk(t, r)
	for _, name := range names {
		wstest.Await(t, name+" to be let in", func() bool { _, err := d.Accept(name); return err == nil })
	}
	press := hosts["press-room"]
	wstest.Do(t, "tc", "qdisc", "add", "dev", press.cable, "root", "tbf", "rate", "4mbit", "burst", "64kbit", "latency", "400ms")
	random := make([]byte, 4<<20)
	if _, err := rand.Read(random); err != nil {
		t.Fatal(err)
	}
	before := press.sent(t)
	b := &estate.Bundle{Manifest: estate.Manifest{Expires: time.Now().Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}}, Content: map[string][]byte{"scripts/random": random}}
	raw, err := d.Make(b, time.Now(), []ed25519.PrivateKey{keyOf("maren")})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := d.Publish(t.Context(), raw, time.Now(), []ed25519.PrivateKey{keyOf("maren")}); err != nil {
		t.Fatal(err)
	}
	wstest.Await(t, "the middle of the bundle", func() bool { return press.sent(t)-before > len(random)/4 })
	wstest.Do(t, "ip", "link", "set", press.cable, "down")
	if got := press.sent(t) - before; got > len(random) || press.keeper.has() != "[] 0" {
		t.Fatalf("the cable was cut after %d bytes, and the workstation has %s", got, press.keeper.has())
	}
	for _, name := range names[1:] {
		wstest.Await(t, "the bundle on "+name, func() bool { return hosts[name].keeper.has() == "[1] 0" })
	}
	if press.keeper.has() != "[] 0" {
		t.Errorf("half a bundle is taken: %s", press.keeper.has())
	}
	wstest.Do(t, "ip", "link", "set", press.cable, "up")
	wstest.Await(t, "the bundle on the one that was cut off", func() bool { return press.keeper.has() == "[1] 0" })
}
