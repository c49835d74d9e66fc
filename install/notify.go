package install

import (
	"net"
	"os"
	"strconv"
	"time"
)

// Tell tells the service manager that has started this process how it does,
// such as READY=1 or WATCHDOG=1 (sd_notify(3)). Where none wants to know,
// nothing is told.
func Tell(state string) error {
	name := os.Getenv("NOTIFY_SOCKET")
	if name == "" {
		return nil
	}
	conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: name, Net: "unixgram"})
	if err != nil {
		return err
	}
	defer conn.Close()
	_, err = conn.Write([]byte(state))
	return err
}

// Watched is how often the service manager wants to hear WATCHDOG=1 at least
// (sd_watchdog_enabled(3)); 0 for not at all.
func Watched() time.Duration {
	if pid := os.Getenv("WATCHDOG_PID"); pid != "" && pid != strconv.Itoa(os.Getpid()) {
		return 0
	}
	usec, err := strconv.ParseInt(os.Getenv("WATCHDOG_USEC"), 10, 64)
	if err != nil || usec <= 0 {
		return 0
	}
	return time.Duration(usec) * time.Microsecond
}
