//go:build linux

package keeper

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"timegate/control"
	"timegate/core/calendar"
	"timegate/core/engine"
	"timegate/core/gate"
	"timegate/gates"
	"timegate/home"
	"timegate/journal"
	"timegate/workstation/wstest"
)

// The test binary is also a caller of its own: with this variable set, it asks
// the system's keeper about the gate that it names, with the rights that it
// was started with.
const childCall = "TIMEGATE_TEST_CALL"

// callKeeper does what a person's commands do, and prints what came of it.
func callKeeper(about string) error {
	h, ctx := systemHome, context.Background()
	c := control.NewClient(h)
	out := map[string]any{"theirs": h.OfOthers()}
	status, err := c.Status(ctx)
	out["gates"], out["running"], out["paths"] = len(status.Gates), status.Running, len(status.Facts.Paths)
	errs := []error{err}
	for name, ask := range map[string]func() error{
		"open":  func() error { _, err := c.Open(ctx, about); return err },
		"stop":  func() error { _, err := c.Stop(ctx, about); return err },
		"pause": func() error { _, err := c.Pause(ctx, time.Time{}); return err },
		"send":  func() error { _, err := c.Send(ctx, "x"); return err },
		"stage": func() error { _, err := c.Stage(ctx, nil); return err },
	} {
		if err := ask(); err != nil {
			out[name] = err.Error()
		}
	}
	files, err := c.Files(gates.Env(gates.Here(gate.System, calendar.UTC, ""), calendar.UTC))
	var names []string
	for _, f := range files {
		names = append(names, f.Name+" "+f.Gate.About)
	}
	out["files"], errs = names, append(errs, err)
	r, err := c.Records()
	if err != nil {
		return err
	}
	entries, err := r.History(journal.Filter{})
	var lines []string
	for _, e := range entries {
		lines = append(lines, fmt.Sprintf("%s %s %s", e.Gate, e.Result, e.Account))
	}
	slices.Sort(lines)
	out["history"], errs = slices.Compact(lines), append(errs, err)
	outputs := ""
	for run := range int64(10) {
		text, err := r.Output(run)
		outputs, errs = outputs+string(text), append(errs, err)
	}
	last, err := r.LastRuns()
	good, err2 := r.LastGood()
	long, err3 := r.Longest()
	story, err4 := r.Story(about, 10)
	_, booted, err5 := r.Booted()
	costs, err6 := r.Costs()
	_, err7 := r.Settled(5)
	out["costs"] = len(costs)
	out["output"], out["last"], out["good"], out["long"], out["story of root's"], out["booted"] = outputs, len(last), len(good), len(long), len(story), booted > 0
	for _, err := range append(errs, err, err2, err3, err4, err5, err6, err7) {
		if err != nil {
			return err
		}
	}
	return json.NewEncoder(os.Stdout).Encode(out)
}

// TestAccess: at the keeper of the system scope root may do all, a person sees
// what runs as themselves, and nothing else; nobody else's output is shown.
func TestAccess(t *testing.T) {
	if !wstest.Alone(t, syscall.CLONE_NEWNS) {
		return
	}
	h := systemScope(t)
	install(t, "/mnt/opt/tell", `echo "secret of $TIMEGATE_GATE"`, 0)
	for name, as := range map[string]string{"hers": `user = "maren"`, "his": `user = "tobias"`, "roots": "elevated = true"} {
		put(t, h, name, "about = \"about "+name+"\"\nrun = [\"/mnt/opt/tell\"]\nopens = [\"signal x\"]\n[as]\n"+as+"\n")
	}
	put(t, h, "skipped", "run = [\"/mnt/opt/tell\"]\nopens = [\"signal x\"]\n[as]\nuser = \"maren\"\n[needs]\npaths = [\"/mnt/nowhere\"]\n")
	k := keep(t, h, newMachine(t))
	c := control.NewClient(h)
	if _, err := c.Send(t.Context(), "x"); err != nil {
		t.Fatal(err)
	}
	for range 3 {
		k.until("an end", func(d engine.Decision) bool { return d.Kind == engine.End || d.Kind == engine.Refuse })
	}
	ask := func(uid uint32) string {
		t.Helper()
		cmd := exec.Command("/proc/self/exe")
		cmd.Env = []string{childCall + "=roots"}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
		var out, errs bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &errs
		if err := cmd.Run(); err != nil {
			t.Errorf("as %d: %v\n%s", uid, err, errs.String())
		}
		return strings.TrimSpace(out.String())
	}
	const refused = `"only root may do that at the system's keeper"`
	seen := func(gates int, files, history, output string, runs int) string {
		return fmt.Sprintf(`{"booted":true,"costs":%[6]d,"files":%[2]s,"gates":%[1]d,"good":%[3]d,"history":%[4]s,"last":%[5]d,"long":%[6]d,"open":%[7]s,"output":%[8]s,"paths":0,"pause":%[7]s,`+
			`"running":0,"send":%[7]s,"stage":%[7]s,"stop":%[7]s,"story of root's":0,"theirs":true}`, gates, files, runs, history, runs, runs, refused, output)
	}
	for uid, want := range map[uint32]string{
		61001: seen(2, `["hers about hers","skipped "]`, `["hers ok maren","skipped skipped "]`, `"secret of hers\n"`, 1),
		61002: seen(1, `["his about his"]`, `["his ok tobias"]`, `"secret of his\n"`, 1),
		65534: seen(0, "null", "null", `""`, 0),
	} {
		if got := ask(uid); got != want {
			t.Errorf("as %d:\n%s\nwant\n%s", uid, got, want)
		}
	}
	// A gate that becomes root's takes its story from then on with it, and a
	// run that was hers stays hers.
	put(t, h, "hers", "about = \"root's now\"\nrun = [\"/mnt/opt/tell\"]\nopens = [\"signal x\"]\n[as]\nelevated = true\n")
	if _, err := c.Open(t.Context(), "hers"); err != nil {
		t.Fatal(err)
	}
	k.until("an end", func(d engine.Decision) bool { return d.Kind == engine.End || d.Kind == engine.Refuse })
	if got, want := ask(61001), seen(1, `["skipped "]`, `["hers ok maren","skipped skipped "]`, `"secret of hers\n"`, 1); got != want {
		t.Errorf("after the change:\n%s\nwant\n%s", got, want)
	}
	checkCrowd(t, h)
}

// checkCrowd: an account that takes all the connections that it gets, and
// says nothing on them, keeps nobody else from the keeper.
func checkCrowd(t *testing.T, h home.Home) {
	var gates []net.Conn
	for range 100 {
		if c, err := net.Dial("unix", h.Socket); err == nil {
			io.WriteString(c, "GET /status HTTP/1.1\r\nHo")
			gates = append(gates, c)
		}
	}
	began := time.Now()
	if _, err := control.NewClient(h).Status(t.Context()); err != nil || time.Since(began) > atOnce {
		t.Errorf("beside a crowd: %v after %v", err, time.Since(began))
	}
	for _, c := range gates {
		c.Close()
	}
}

// FuzzControl sends anything to a keeper's socket: it answers in HTTP or not at
// all, starts nothing that was not asked for, and answers the next request.
func FuzzControl(f *testing.F) {
	for _, body := range []string{`{"gate":"job-board"}`, `{"about":"history","filter":{"Gate":"x","Limit":-1}}`, `{"about":"output","run":1}`, `{"until":"2026-11-30T06:00:00Z"}`, "", "[", `{"gate":""}`, `{"about":"story","limit":1000000000}`} {
		for _, path := range []string{"/open", "/stop", "/pause", "/resume", "/send", "/stage", "/records", "/status", "/gates"} {
			f.Add([]byte(post(path, body)))
		}
	}
	f.Add([]byte("GET /status HTTP/1.1\r\nHost: keeper\r\n\r\n"))
	h := home.At(f.TempDir(), gate.User)
	keeper := New(Options{Home: h, Workstation: newMachine(f)})
	go keeper.Run(f.Context())
	client := control.NewClient(h)
	wstest.Await(f, "the keeper", func() bool { _, err := client.Status(f.Context()); return err == nil })
	f.Fuzz(func(t *testing.T, request []byte) {
		c, err := net.Dial("unix", h.Socket)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(time.Second))
		c.Write(request)
		c.(*net.UnixConn).CloseWrite()
		in := bufio.NewReader(c)
		if first, err := in.Peek(5); err == nil && string(first) != "HTTP/" {
			t.Errorf("it is answered by %q", first)
		}
		if res, err := http.ReadResponse(in, nil); err == nil && res.StatusCode == http.StatusInternalServerError {
			body, _ := io.ReadAll(res.Body)
			t.Errorf("answered %s: %s", res.Status, body)
		}
		if s, err := client.Status(t.Context()); err != nil || s.Running != 0 {
			t.Errorf("then: %+v, %v", s, err)
		}
	})
}
