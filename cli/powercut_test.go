//go:build linux

package cli_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"timegate/core/coretest"
	"timegate/workstation/wstest"
	"timegate/workstation/wstest/cutfs"
)

// busyDay is what goes on while the power may be cut: programs are started every second or
// so, and somebody works on the gates.
const busyDay = `
cd "$MNT"
mkdir shared
timegate add humidity-log --yes --open "every 1s from 00:00 to 23:59:59" --set rules.missed=once -- "$PRESS" >/dev/null
timegate add spool-reset --yes --open "every 1s from 00:00 to 23:59:59" --set rules.busy=queue -- "$PRESS" >/dev/null
timegate add board-a --yes --open "every 2s from 00:00 to 23:59:59" --set rules.missed=once -- "$PRESS" >/dev/null
timegate add proof-inbox --yes --open "signal proofs" -- "$PRESS" >/dev/null
timegate keeper run 2>"$OUT/log" &
keeper=$!
trap 'kill -9 $keeper 2>/dev/null || :' EXIT
await "timegate keeper status"
for i in $(seq "$ROUNDS"); do
  timegate change humidity-log --yes --about "Round $i" >/dev/null
  timegate send proofs >/dev/null
  timegate rename board-a board-b --yes >/dev/null
  for g in vault-copy stock-count; do printf 'about = "Round %d"\nrun = ["%s"]\nopens = ["at 03:00"]\n' $i "$PRESS" >shared/$g.toml; done
  timegate apply shared --yes >/dev/null
  timegate keeper backup "$MNT/backup-$i.db" >/dev/null
  sleep 0.8
  timegate pause --for 300ms >/dev/null
  timegate rename board-b board-a --yes >/dev/null
  timegate resume >/dev/null
  timegate disable proof-inbox >/dev/null 2>&1; timegate enable proof-inbox >/dev/null
  [ $((i % 3)) != 1 ] || timegate keeper restart >/dev/null
done
kill $keeper
wait $keeper
`

// afterwards is what happens when the machine is there again: in place of the disk there is
// what it held after the cut.
const afterwards = `
cd /
timegate keeper run --staged --at "$AT" 2>"$OUT/log" &
keeper=$!
trap 'kill -9 $keeper 2>/dev/null || :' EXIT
await "timegate keeper status"
sleep 0.3
kill $keeper
wait $keeper
timegate list --json >"$OUT/list"
timegate history --json --count 100000 >"$OUT/history"
`

// nobody keeps the home: root would not have it on a file system that is a program's.
const nobody = 65534

var asNobody = []string{fmt.Sprintf("--reuid=%d", nobody), fmt.Sprintf("--regid=%d", nobody), "--clear-groups", "/bin/sh", "-ec"}

// openTo makes a folder that an account can reach and change.
func openTo(t *testing.T, uid int) string {
	t.Helper()
	dir := t.TempDir()
	for _, d := range []string{dir, filepath.Dir(dir)} {
		if err := os.Chmod(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Chown(dir, uid, uid); err != nil {
		t.Fatal(err)
	}
	return dir
}

// TestPowerCuts cuts the power at hundreds of moments of a busy day. Whatever of it the
// disk has kept: each gate's file is an old one or a new one, what belongs together came
// together or not at all, the keeper begins by itself, each start has its record, and no
// program starts a second time.
func TestPowerCuts(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"unshare", "setpriv"} {
		wstest.Need(t, name, "util-linux")
	}
	disk := cutfs.Mount(t)
	log := openTo(t, nobody)
	press := wstest.Script(t, `echo "${TIMEGATE_GATE%-[ab]} $TIMEGATE_DUE $TIMEGATE_RUN $TIMEGATE_GATE" >>"`+disk.Dir+`/starts"`)
	env := append(os.Environ(), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "TIMEGATE_HOME="+disk.Dir+"/tg", "MNT="+disk.Dir, "PRESS="+press, "TZ=UTC")
	env = slices.Clip(env) // each round adds its own
	for _, err := range []error{os.Chown(disk.Dir, nobody, nobody), os.Chmod(filepath.Dir(program), 0o755)} {
		if err != nil {
			t.Fatal(err)
		}
	}
	day := exec.Command("setpriv", append(asNobody, busyDay)...)
	day.Env = append(env, "OUT="+log, fmt.Sprintf("ROUNDS=%d", coretest.Size(12, 6, 3)))
	play(t, day, log)
	ever := disk.Ever("tg/gates", ".toml")
	begun := 0 // the moment from which on the keeper is there
	for !strings.Contains(strings.Join(wordsOf(disk.Whole(begun)), " "), "humidity-log") {
		begun += 50
	}
	cuts := coretest.Size(500, 40, 8)
	for i := range cuts {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			r := rand.New(rand.NewPCG(uint64(i), 1))
			moment := begun + r.IntN(disk.Moments()-begun)
			t.Logf("cut after %d of %d writes", moment, disk.Moments())
			before := wordsOf(disk.Whole(moment))
			image := openTo(t, nobody)
			cut := disk.Cut(moment, r)
			for name, text := range cut.Files("tg/gates") {
				if strings.HasSuffix(name, ".toml") && !ever[text] {
					t.Errorf("%s is neither an old one nor a new one: %q", name, text)
				}
			}
			if err := cut.Write(image); err != nil {
				t.Fatal(err)
			}
			wstest.Do(t, "chown", "-R", fmt.Sprint(nobody), image)
			os.Remove(image + "/starts") // what was started is known from here
			out := openTo(t, nobody)
			again := exec.Command("unshare", "--mount", "--pid", "--fork", "--kill-child", "--mount-proc", "/bin/sh", "-ec", `mount --bind "$IMAGE" "$MNT"; mount -t tmpfs none /sys/fs/cgroup; exec setpriv "$@"`, "sh")
			again.Args = append(append(again.Args, asNobody...), afterwards)
			again.Env = append(env, "IMAGE="+image, "OUT="+out, "AT="+disk.Time(moment).Add(time.Second).UTC().Format(time.DateTime))
			play(t, again, out)
			after, _ := os.ReadFile(image + "/starts")
			checkCut(t, out, before, strings.Split(strings.TrimSpace(string(after)), "\n"))
		})
	}
}

// play runs a command; what it starts may outlive it.
func play(t *testing.T, cmd *exec.Cmd, out string) {
	t.Helper()
	f, err := os.Create(out + "/said")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	cmd.Stdout, cmd.Stderr = f, f
	if err := cmd.Run(); err != nil {
		said, _ := os.ReadFile(out + "/said")
		log, _ := os.ReadFile(out + "/log")
		t.Fatalf("%v\n%s%s", err, said, log)
	}
}

// wordsOf returns the starts that a disk has seen.
func wordsOf(c *cutfs.Cut) []string {
	text := c.Files("")["starts"]
	return strings.Split(strings.TrimSpace(text), "\n")
}

// checkCut compares what started before and after a cut with what is told of it.
func checkCut(t *testing.T, out string, before, after []string) {
	read := func(name string, v any) {
		data, err := os.ReadFile(filepath.Join(out, name))
		if err == nil {
			err = json.Unmarshal(data, v)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	var gates []struct{ Name, About, State string }
	var history []struct {
		Run       int64
		Gate, Due string
	}
	read("list", &gates)
	read("history", &history)
	abouts := map[string]string{}
	for _, g := range gates {
		abouts[g.Name] = g.About
		if g.State == "broken" {
			t.Errorf("%s is broken", g.Name)
		}
	}
	_, a := abouts["board-a"]
	_, b := abouts["board-b"]
	if a == b {
		t.Errorf("of a gate that was renamed there are both names or none: %v", abouts)
	}
	if abouts["vault-copy"] != abouts["stock-count"] {
		t.Errorf("half of what came together is there: %v", abouts)
	}
	told := map[string]bool{}
	for _, e := range history {
		due, err := time.Parse(time.RFC3339, e.Due)
		if err != nil {
			t.Fatal(err)
		}
		told[fmt.Sprintf("%d %d", e.Run, due.Unix())] = true
	}
	starts, runs := map[string]string{}, map[string]string{}
	for _, line := range append(before, after...) {
		f := strings.Fields(line)
		if len(f) < 4 {
			continue
		}
		due, err := time.Parse(time.RFC3339, f[1])
		if err != nil {
			t.Fatal(err)
		}
		if key := fmt.Sprintf("%s %d", f[2], due.Unix()); !told[key] {
			t.Errorf("a start without a record: %s", line)
		}
		if was := starts[f[0]+f[1]]; was != "" && f[0] != "proof-inbox" {
			t.Errorf("started twice: %s, and %s", was, line)
		}
		if was := runs[f[2]]; was != "" {
			t.Errorf("two runs have a number: %s, and %s", was, line)
		}
		starts[f[0]+f[1]], runs[f[2]] = line, line
	}
}
