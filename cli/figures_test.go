//go:build linux

package cli_test

import (
	"bufio"
	"context"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestServeFigures asks for figures over a port and over a socket, as a collector does; when
// it ends, nothing is left of them.
func TestServeFigures(t *testing.T) {
	t.Parallel()
	home := homeWith(t, "label-sheet", longGate)
	socket := filepath.Join(t.TempDir(), "figures.sock")
	for _, address := range []string{"127.0.0.1:0", "unix:" + socket} {
		cmd := exec.Command(program, "--home", home, "figures", "--serve", address)
		said, err := cmd.StderrPipe()
		if err == nil {
			err = cmd.Start()
		}
		if err != nil {
			t.Fatal(err)
		}
		line, err := bufio.NewReader(said).ReadString('\n')
		where, ok := strings.CutPrefix(strings.TrimSpace(line), "figures are served at ")
		if err != nil || !ok {
			t.Fatalf("%s: %q, %v", address, line, err)
		}
		network := "tcp"
		if strings.HasPrefix(address, "unix:") {
			network = "unix"
		}
		client := http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, where)
		}}}
		at := map[string]string{"tcp": where, "unix": "figures"}[network]
		for range 3 {
			res, err := client.Get("http://" + at + "/metrics")
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(res.Body)
			res.Body.Close()
			if err != nil || !strings.HasPrefix(res.Header.Get("Content-Type"), "application/openmetrics-text") || !strings.HasSuffix(string(text), "# EOF\n") || !strings.Contains(string(text), `timegate_gate_state{gate="label-sheet",state="on"} 1`) {
				t.Errorf("%s answers %v, %v\n%s", address, res.Header, err, text)
			}
		}
		// A page in somebody's browser, whose name leads here, learns nothing, and nothing is written.
		for _, ask := range []struct {
			method, host string
			want         map[string]int
		}{{"GET", "page.example", map[string]int{"tcp": 421, "unix": 200}}, {"GET", "127.0.0.1.page.example:80", map[string]int{"tcp": 421, "unix": 200}}, {"GET", "localhost:1", map[string]int{"tcp": 200, "unix": 200}},
			{"HEAD", "[::1]", map[string]int{"tcp": 200, "unix": 200}}, {"POST", at, map[string]int{"tcp": 405, "unix": 405}}} {
			req, err := http.NewRequestWithContext(t.Context(), ask.method, "http://"+at+"/", nil)
			if err != nil {
				t.Fatal(err)
			}
			req.Host = ask.host
			res, err := client.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			if want := ask.want[network]; res.StatusCode != want {
				t.Errorf("%s: %s for %s is answered with %s, want %d", address, ask.method, ask.host, res.Status, want)
			}
		}
		cmd.Process.Signal(syscall.SIGTERM)
		if err := cmd.Wait(); err != nil {
			t.Errorf("%s: it ends with %v", address, err)
		}
		if _, err := net.Dial(network, where); err == nil {
			t.Errorf("%s is served still", address)
		}
	}
	if _, err := os.Lstat(socket); err == nil {
		t.Error("the socket is left")
	}
}
