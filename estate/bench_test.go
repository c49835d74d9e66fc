//go:build linux

package estate

import (
	"bytes"
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/plotutil"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"

	"timegate/core/estate"
	"timegate/core/gate"
	"timegate/home"
	"timegate/workstation"
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

// costs are what a shop of some size takes: the most of what was measured of it.
type costs map[string]float64

// BenchmarkEstate lets many workstations in one process, with the real protocol and a real
// broker on this machine, take a bundle of 20 KB, and the program list them.
// TIMEGATE_ESTATE_HOSTS says how many there are, such as 500,2000,10000, and
// TIMEGATE_ESTATE_PICTURE in which file the costs of each are drawn.
func BenchmarkEstate(b *testing.B) {
	program := built(b)
	seen := map[int]costs{}
	for _, text := range strings.Split(cmp.Or(os.Getenv("TIMEGATE_ESTATE_HOSTS"), "100"), ",") {
		n, err := strconv.Atoi(text)
		if err != nil {
			b.Fatal(err)
		}
		seen[n] = costs{}
		b.Run("hosts="+text, func(b *testing.B) { benchEstate(b, n, program, seen[n]) })
	}
	if file := os.Getenv("TIMEGATE_ESTATE_PICTURE"); file != "" {
		if err := drawCosts(file, seen); err != nil {
			b.Fatal(err)
		}
	}
}

// built builds the program.
func built(b testing.TB) string {
	program := filepath.Join(b.TempDir(), "timegate")
	build := exec.Command("go", "build", "-trimpath", "-ldflags", "-s -w", "-o", program, "timegate")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		b.Fatalf("%v\n%s", err, out)
	}
	return program
}

// BenchmarkKeepers lets many keepers run as processes, each with its network's process beside it,
// and take a bundle of one gate. TIMEGATE_ESTATE_KEEPERS says how many there are.
func BenchmarkKeepers(b *testing.B) {
	n, err := strconv.Atoi(cmp.Or(os.Getenv("TIMEGATE_ESTATE_KEEPERS"), "5"))
	if err != nil {
		b.Fatal(err)
	}
	program := built(b)
	s := openShop(b, 0)
	var pids []int
	for i := range n {
		host := fmt.Sprintf("desk-%05d", i)
		dir := b.TempDir()
		h := home.At(dir, gate.User)
		trust, err := KeyText(publicOf("maren"))
		if err == nil {
			err = (&Settings{Broker: s.plain("").URL, Shop: "larkspur", Trust: []string{trust}, Need: 1}).Write(h)
		}
		if err != nil {
			b.Fatal(err)
		}
		key, err := HostKey(h)
		if err != nil {
			b.Fatal(err)
		}
		public, ok := key.Public().(ed25519.PublicKey)
		if !ok {
			b.Fatal("the key is none")
		}
		s.known.Hosts[host] = public
		keeper := exec.Command(program, "--home", dir, "keeper", "run")
		keeper.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + dir, workstation.HostVariable + "=" + host}
		if err := keeper.Start(); err != nil {
			b.Fatal(err)
		}
		b.Cleanup(func() { keeper.Process.Signal(syscall.SIGTERM); keeper.Wait() })
		pids = append(pids, keeper.Process.Pid)
	}
	began := time.Now()
	s.told(0)
	came := time.Since(began)
	for number := int64(0); b.Loop(); {
		number++
		began := time.Now()
		bundle := &estate.Bundle{Manifest: estate.Manifest{Expires: began.Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}},
			Content: map[string][]byte{"gates/humidity-log.toml": fmt.Appendf(nil, "about = \"bundle %d\"\nrun = [\"/bin/true\"]\nopens = [\"at 12:00\"]\n", number)}}
		s.publish(bundle, began)
		s.told(number)
		b.ReportMetric(time.Since(began).Seconds(), "told-s")
	}
	for _, h := range s.desk.Hosts() {
		if h.Last.Bundle.State != estate.Taken {
			b.Errorf("%s: %+v", h.Host, h.Last.Bundle)
		}
	}
	b.ReportMetric(came.Seconds(), "told-first-s")
	const idle = 20 * time.Second
	before := ticksOf(pids)
	time.Sleep(idle)
	b.ReportMetric(100*(ticksOf(pids)-before)/100/idle.Seconds()/float64(n), "idle-%/keeper")
	b.ReportMetric(memoryOf(pids)/float64(n), "MB/keeper")
}

// withChildren are processes and those that they have started.
func withChildren(pids []int) (all []int) {
	for _, pid := range pids {
		all = append(all, pid)
		files, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
		for _, file := range files {
			data, _ := os.ReadFile(file) // a thread may have ended
			for _, text := range strings.Fields(string(data)) {
				if child, err := strconv.Atoi(text); err == nil {
					all = append(all, child)
				}
			}
		}
	}
	return all
}

// ticksOf is the processor's time of processes, in hundredths of a second.
func ticksOf(pids []int) (sum float64) {
	for _, pid := range withChildren(pids) {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
		if err != nil || len(fields) < 13 {
			continue
		}
		for _, text := range fields[11:13] {
			ticks, _ := strconv.ParseFloat(text, 64)
			sum += ticks
		}
	}
	return sum
}

// memoryOf is the memory of processes in megabytes, what they share counted once.
func memoryOf(pids []int) (sum float64) {
	for _, pid := range withChildren(pids) {
		data, _ := os.ReadFile(fmt.Sprintf("/proc/%d/smaps_rollup", pid))
		_, text, _ := strings.Cut(string(data), "Pss:")
		var kib float64
		if _, err := fmt.Sscan(text, &kib); err == nil {
			sum += kib * 1024 / 1e6
		}
	}
	return sum
}

// shop is many workstations and a broker.
type shop struct {
	b       *testing.B
	broker  *realBroker
	known   *Known
	desk    *Desk
	applied chan time.Time
}

func (s *shop) plain(host string) Broker {
	return Broker{URL: fmt.Sprintf("mqtt://127.0.0.1:%d", s.broker.port), Shop: "larkspur", Host: host, Client: "timegate-" + host, Topics: stationTopics(host)}
}

func (s *shop) publish(bundle *estate.Bundle, now time.Time) {
	maren := []ed25519.PrivateKey{keyOf("maren")}
	raw, err := s.desk.Make(bundle, now, maren)
	if err == nil {
		_, err = s.desk.Publish(s.b.Context(), raw, now, maren)
	}
	if err != nil {
		s.b.Fatal(err)
	}
}

// told waits until all have told of a bundle.
func (s *shop) told(number int64) {
	for look := time.NewTicker(100 * time.Millisecond); ; <-look.C {
		count := 0
		for _, h := range s.desk.Hosts() {
			if h.Last != nil && h.Last.Bundle.Number >= number {
				count++
			}
		}
		if count == len(s.known.Hosts) {
			return
		}
	}
}

// openShop starts a broker, and lets workstations run until the benchmark ends.
func openShop(b *testing.B, n int) *shop {
	port := freePort(b)
	conf := filepath.Join(b.TempDir(), "conf")
	text := fmt.Sprintf("listener %d 127.0.0.1\nallow_anonymous true\nuser root\nmax_queued_messages 100000\n", port)
	if err := os.WriteFile(conf, []byte(text), 0o644); err != nil {
		b.Fatal(err)
	}
	s := &shop{b: b, applied: make(chan time.Time, n), known: &Known{Hosts: map[string]ed25519.PublicKey{}}}
	s.broker = &realBroker{address: "127.0.0.1", port: port, cmd: exec.Command(wstest.Need(b, "mosquitto", "mosquitto"), "-c", conf)}
	s.broker.begin(b)
	b.Cleanup(s.broker.kill)
	ctx, stop := context.WithCancel(context.Background())
	var all sync.WaitGroup
	b.Cleanup(func() { stop(); all.Wait() })
	for i := range n {
		host := fmt.Sprintf("desk-%05d", i)
		s.known.Hosts[host] = publicOf(host)
	}
	wait, enough := context.WithTimeout(ctx, time.Minute)
	defer enough()
	var err error
	if s.desk, err = Open(wait, s.plain(""), []ed25519.PublicKey{publicOf("maren")}, 1, s.known); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(s.desk.Close)
	first := make(chan struct{}, n)
	for i, host := range slices.Sorted(maps.Keys(s.known.Hosts)) {
		messages := make(chan Message, 4)
		conn, err := Connect(ctx, s.plain(host), func(m Message) {
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
		one := station(host, nil, &memory{}, out.put)
		one.Keeper, one.Times = &crowd{at: s.applied}, Times{Gather: 5 * time.Second, Pause: time.Minute, Beat: time.Hour, Answer: time.Minute}
		all.Go(func() { out.run(ctx, conn.Publish) })
		all.Go(func() {
			if err := one.Run(ctx, messages, nil); err != nil {
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
	return s
}

func benchEstate(b *testing.B, n int, program string, cost costs) {
	note := func(unit string, value float64) {
		b.ReportMetric(value, unit)
		cost[unit] = max(cost[unit], value)
	}
	s := openShop(b, n)
	random := make([]byte, 20_000)
	if _, err := rand.Read(random); err != nil {
		b.Fatal(err)
	}
	s.told(0)
	for number := int64(0); b.Loop(); {
		number++
		began := time.Now()
		bundle := &estate.Bundle{Manifest: estate.Manifest{Expires: began.Add(time.Hour), Plan: estate.Plan{Waves: []estate.Wave{{Rest: true}}}}, Content: map[string][]byte{"scripts/random": random}}
		s.publish(bundle, began)
		var took []time.Duration
		for range n {
			took = append(took, (<-s.applied).Sub(began))
		}
		slices.Sort(took)
		note("p50-s", took[n/2].Seconds())
		note("p99-s", took[n*99/100].Seconds())
		s.told(number)
	}
	s.list(program, note)
	if data, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", s.broker.cmd.Process.Pid)); err == nil {
		var size, resident float64
		if _, err := fmt.Sscan(string(data), &size, &resident); err == nil {
			note("broker-MB", resident*float64(os.Getpagesize())/1e6)
		}
	}
}

// list lets the program list the workstations, in a home of an administrator who comes now.
func (s *shop) list(program string, note func(string, float64)) {
	s.b.Helper()
	dir := s.b.TempDir()
	h := home.At(dir, gate.User)
	key, err := KeyText(publicOf("maren"))
	if err == nil {
		err = (&Settings{Broker: s.plain("").URL, Shop: "larkspur", Trust: []string{key}, Need: 1, Desk: true}).Write(h)
	}
	if err == nil {
		err = (Files{h}).learn(func(k *Known) { k.Hosts = s.known.Hosts })
	}
	if err != nil {
		s.b.Fatal(err)
	}
	for _, unit := range []string{"list-first-s", "list-s", "list-s"} { // then what was signed was looked at before
		var out bytes.Buffer
		cmd := exec.Command(program, "--home", dir, "estate", "list")
		cmd.Stdout, cmd.Stderr = &out, &out
		began := time.Now()
		if err := cmd.Start(); err != nil {
			s.b.Fatal(err)
		}
		largest := make(chan float64)
		go func() { largest <- largestOf(cmd.Process.Pid) }()
		err := cmd.Wait()
		took := time.Since(began)
		if rows := bytes.Count(out.Bytes(), []byte("\n")) - 1; err != nil || rows != len(s.known.Hosts) {
			s.b.Fatalf("%d workstations are listed, of %d: %v %.500s", rows, len(s.known.Hosts), err, &out)
		}
		note(unit, took.Seconds())
		note("list-MB", <-largest)
	}
}

// largestOf looks at a process until it ends, and returns how many megabytes it took at most.
// The kernel's own figure at its end has that of the process that has started it.
func largestOf(pid int) (most float64) {
	for {
		data, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
		_, text, there := strings.Cut(string(data), "VmHWM:")
		if err != nil || !there {
			return most
		}
		var kib float64
		if _, err := fmt.Sscan(text, &kib); err == nil {
			most = kib * 1024 / 1e6
		}
		time.Sleep(time.Millisecond)
	}
}

// drawCosts draws what shops took by how many workstations they had.
func drawCosts(file string, seen map[int]costs) error {
	sizes := slices.Sorted(maps.Keys(seen))
	if len(sizes) < 2 {
		return errors.New("one size is no curve")
	}
	var both [2]*plot.Plot
	for i, half := range []struct {
		title, unit string
		of          [][2]string
		ticks       []plot.Tick
	}{
		{"until it is there, and until it is listed", "seconds", [][2]string{{"taken by 99 %", "p99-s"}, {"taken by half", "p50-s"}, {"estate list, the first time", "list-first-s"}, {"estate list", "list-s"}}, ticks(0.02, 0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50)},
		{"memory", "megabytes", [][2]string{{"estate list", "list-MB"}, {"broker", "broker-MB"}}, ticks(5, 10, 20, 50, 100, 200, 500)},
	} {
		p := plot.New()
		p.Title.Text, p.X.Label.Text, p.Y.Label.Text = half.title, "workstations", half.unit
		p.X.Scale, p.Y.Scale, p.Y.Tick.Marker = plot.LogScale{}, plot.LogScale{}, plot.ConstantTicks(half.ticks)
		var x []plot.Tick
		for _, n := range sizes {
			x = append(x, plot.Tick{Value: float64(n), Label: strconv.Itoa(n)})
		}
		p.X.Tick.Marker = plot.ConstantTicks(x)
		p.Title.Padding, p.Legend.Padding = 10, 3
		p.Legend.Top, p.Legend.Left, p.Legend.XOffs, p.Legend.YOffs = true, true, 8, -4
		p.Add(plotter.NewGrid())
		var lines []any
		for _, line := range half.of {
			var points plotter.XYs
			for _, n := range sizes {
				points = append(points, plotter.XY{X: float64(n), Y: seen[n][line[1]]})
			}
			lines = append(lines, line[0], points)
		}
		if err := plotutil.AddLinePoints(p, lines...); err != nil {
			return err
		}
		p.Y.Min, p.Y.Max = half.ticks[0].Value, half.ticks[len(half.ticks)-1].Value
		both[i] = p
	}
	const width, height, dpi = 960, 390, 96
	c := vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(dpi))}
	tiles := draw.Tiles{Rows: 1, Cols: len(both), PadX: 20, PadTop: 10, PadBottom: 10, PadLeft: 10, PadRight: 20}
	for i, at := range plot.Align([][]*plot.Plot{both[:]}, tiles, draw.New(c))[0] {
		both[i].Draw(at)
	}
	var picture bytes.Buffer
	if _, err := c.WriteTo(&picture); err != nil {
		return err
	}
	return os.WriteFile(file, picture.Bytes(), 0o644)
}

func ticks(values ...float64) (out []plot.Tick) {
	for _, v := range values {
		out = append(out, plot.Tick{Value: v, Label: strconv.FormatFloat(v, 'g', -1, 64)})
	}
	return out
}
