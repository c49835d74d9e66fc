//go:build linux

package estate

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"timegate/core/estate"
	"timegate/workstation/wstest"
)

// crowd is a keeper that notes when something was applied.
type crowd struct {
	fakeKeeper
	at chan<- time.Time
}

func (c *crowd) Apply(*estate.Bundle) error {
	c.at <- time.Now()
	return nil
}

// listOnce lists an estate as an administrator does, and prints how many have told, and the
// memory that it took.
func listOnce(port, file string) int {
	known := &Known{}
	data, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(data, known)
	}
	if err == nil {
		var d *Desk
		if d, err = Open(context.Background(), Broker{URL: "mqtt://127.0.0.1:" + port, Shop: "larkspur"}, []ed25519.PublicKey{publicOf("maren")}, 1, known); err == nil {
			list := d.Hosts()
			SortHosts(list)
			told := slices.DeleteFunc(list, func(h Host) bool { return h.Last == nil || h.Last.Bundle.Number == 0 })
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			fmt.Println(len(told), float64(m.Sys)/1e6)
			return 0
		}
	}
	fmt.Println(err)
	return 1
}

// BenchmarkEstate lets many workstations in one process, with the real protocol and a real
// broker on this machine, take a bundle of 20 KB, and an administrator list them.
// TIMEGATE_ESTATE_HOSTS says how many there are.
func BenchmarkEstate(b *testing.B) {
	n, _ := strconv.Atoi(os.Getenv("TIMEGATE_ESTATE_HOSTS"))
	if n == 0 {
		n = 100
	}
	port := freePort(b)
	conf := filepath.Join(b.TempDir(), "conf")
	text := fmt.Sprintf("listener %d 127.0.0.1\nallow_anonymous true\nuser root\nmax_queued_messages 100000\n", port)
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		b.Fatal(err)
	}
	r := &realBroker{address: "127.0.0.1", port: port, cmd: exec.Command(wstest.Need(b, "mosquitto", "mosquitto"), "-c", conf)}
	r.begin(b)
	b.Cleanup(r.kill)
	ctx, stop := context.WithCancel(b.Context())
	var all sync.WaitGroup
	b.Cleanup(func() { stop(); all.Wait() })
	applied := make(chan time.Time, n)
	known := &Known{Hosts: map[string]ed25519.PublicKey{}}
	for i := range n {
		known.Hosts[fmt.Sprintf("desk-%05d", i)] = publicOf(fmt.Sprintf("desk-%05d", i))
	}
	plain := func(host string) Broker {
		return Broker{URL: fmt.Sprintf("mqtt://127.0.0.1:%d", port), Shop: "larkspur", Host: host, Client: "timegate-" + host, Topics: stationTopics(host)}
	}
	open := func() *Desk {
		wait, enough := context.WithTimeout(ctx, time.Minute)
		defer enough()
		one := plain("")
		d, err := Open(wait, one, []ed25519.PublicKey{publicOf("maren")}, 1, known)
		if err != nil {
			b.Fatal(err)
		}
		return d
	}
	reports := func(d *Desk, number int64) int {
		count := 0
		for _, h := range d.Hosts() {
			if h.Last != nil && h.Last.Bundle.Number >= number {
				count++
			}
		}
		return count
	}
	d := open()
	defer d.Close()
	// told waits until all have told of a bundle.
	told := func(number int64) {
		for look := time.NewTicker(100 * time.Millisecond); reports(d, number) < n; <-look.C {
		}
	}
	joined := time.Now()
	first := make(chan struct{}, n)
	for i := range n {
		host := fmt.Sprintf("desk-%05d", i)
		messages := make(chan Message, 4)
		conn, err := Connect(ctx, plain(host), func(m Message) {
			if m.Up {
				first <- struct{}{}
			}
			select {
			case messages <- m:
			case <-ctx.Done():
			}
		})
		if err != nil {
			b.Fatal(err)
		}
		out := newOutbox()
		s := station(host, nil, &memory{}, out.put)
		s.Keeper, s.Times = &crowd{at: applied}, Times{Gather: 5 * time.Second, Pause: time.Minute, Beat: time.Hour, Answer: time.Minute}
		all.Go(func() { out.run(ctx, conn.Publish) })
		all.Go(func() {
			if err := s.Run(ctx, messages, nil); err != nil {
				b.Error(err)
			}
		})
		if i%200 == 199 { // they do not come all at one instant
			for range 200 {
				<-first
			}
		}
	}
	for range n % 200 {
		<-first
	}
	b.ReportMetric(time.Since(joined).Seconds(), "connect-s")
	random := make([]byte, 20_000)
	if _, err := rand.Read(random); err != nil {
		b.Fatal(err)
	}
	told(0)
	for number := int64(0); b.Loop(); {
		number++
		began := time.Now()
		bundle := &estate.Bundle{Manifest: estate.Manifest{Expires: began.Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}}, Content: map[string][]byte{"scripts/random": random}}
		if _, err := d.Publish(ctx, bundle, began, []ed25519.PrivateKey{keyOf("maren")}); err != nil {
			b.Fatal(err)
		}
		var took []time.Duration
		for range n {
			took = append(took, (<-applied).Sub(began))
		}
		slices.Sort(took)
		b.ReportMetric(took[n/2].Seconds(), "p50-s")
		b.ReportMetric(took[n*99/100].Seconds(), "p99-s")
		told(number)
		b.ReportMetric(time.Since(began).Seconds(), "told-s")
	}
	// An administrator who comes now is another process.
	file := filepath.Join(b.TempDir(), "known.json")
	data, err := json.Marshal(known)
	if err == nil {
		err = os.WriteFile(file, data, 0o600)
	}
	if err != nil {
		b.Fatal(err)
	}
	began := time.Now()
	out, err := exec.Command(os.Args[0], "@list", strconv.Itoa(port), file).CombinedOutput()
	if err != nil || strings.TrimSpace(string(out)) == "" {
		b.Fatalf("%v: %s", err, out)
	}
	b.ReportMetric(time.Since(began).Seconds(), "list-s")
	var listed int
	var memory float64
	if _, err := fmt.Sscan(string(out), &listed, &memory); err != nil || listed != n {
		b.Errorf("%d of %d workstations are listed: %s", listed, n, out)
	}
	b.ReportMetric(memory, "desk-MB")
	if data, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", r.cmd.Process.Pid)); err == nil {
		var size, resident float64
		if _, err := fmt.Sscan(string(data), &size, &resident); err == nil {
			b.ReportMetric(resident*float64(os.Getpagesize())/1e6, "broker-MB")
		}
	}
}
