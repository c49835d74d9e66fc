//go:build linux

package linux_test

import (
	"os/exec"
	"testing"

	"timegate/workstation"
	"timegate/workstation/linux"
	"timegate/workstation/wstest"
)

func machine(t testing.TB) workstation.Workstation {
	t.Helper()
	m, err := linux.New()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { m.Close() })
	return m
}

func TestMachine(t *testing.T) {
	t.Parallel()
	wstest.Run(t, func(t *testing.T) workstation.Workstation { return machine(t) })
	wstest.Programs(t, linux.Starter{})
}

// BenchmarkStart compares a start with all that it takes (pipe, file, session,
// watching) with a bare fork and exec of the same program.
func BenchmarkStart(b *testing.B) {
	b.Run("floor: fork and exec", func(b *testing.B) {
		for b.Loop() {
			if err := exec.Command("/bin/true").Run(); err != nil {
				b.Fatal(err)
			}
		}
	})
	b.Run("start", func(b *testing.B) {
		for b.Loop() {
			done := make(chan struct{})
			_, err := linux.Starter{}.Start(workstation.Order{Mark: "bench", Argv: []string{"/bin/true"}, Folder: "/",
				Print: func([]byte) {}, Done: func(workstation.Exit) { close(done) }})
			if err != nil {
				b.Fatal(err)
			}
			<-done
		}
	})
}
