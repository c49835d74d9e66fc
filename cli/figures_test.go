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
		for range 3 {
			res, err := client.Get("http://figures/metrics")
			if err != nil {
				t.Fatal(err)
			}
			text, err := io.ReadAll(res.Body)
			res.Body.Close()
			if err != nil || !strings.HasPrefix(res.Header.Get("Content-Type"), "application/openmetrics-text") || !strings.HasSuffix(string(text), "# EOF\n") || !strings.Contains(string(text), `timegate_gate_state{gate="label-sheet",state="on"} 1`) {
				t.Errorf("%s answers %v, %v\n%s", address, res.Header, err, text)
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
