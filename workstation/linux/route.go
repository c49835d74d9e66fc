//go:build linux

package linux

import (
	"bufio"
	"fmt"
	"os"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
)

// routes tells when a default route comes or goes.
type routes struct{ socket *os.File }

func listenRoutes(changed func()) (*routes, error) {
	socket, err := netlink(unix.NETLINK_ROUTE, unix.RTMGRP_IPV4_ROUTE|unix.RTMGRP_IPV6_ROUTE)
	if err != nil {
		return nil, fmt.Errorf("the kernel's messages of routes cannot be heard: %w", err)
	}
	go receive(socket, func([]byte) { changed() }, changed)
	return &routes{socket: socket}, nil
}

func (r *routes) close() { r.socket.Close() }

// Flags of a route (linux/route.h).
const (
	routeUp     = 0x1
	routeReject = 0x200
)

// online reports whether there is a default route, by the kernel's tables.
func online() bool {
	return anyLine("/proc/self/net/route", func(f []string) bool {
		return len(f) >= 8 && f[1] == "00000000" && f[7] == "00000000" && usable(f[3])
	}) || anyLine("/proc/self/net/ipv6_route", func(f []string) bool {
		return len(f) >= 10 && f[1] == "00" && strings.Trim(f[0], "0") == "" && f[9] != "lo" && usable(f[8])
	})
}

func usable(flags string) bool {
	n, err := strconv.ParseUint(flags, 16, 32)
	return err == nil && n&routeUp != 0 && n&routeReject == 0
}

func anyLine(path string, is func(fields []string) bool) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	for s := bufio.NewScanner(f); s.Scan(); {
		if is(strings.Fields(s.Text())) {
			return true
		}
	}
	return false
}

func postOnline(b *workstation.Board, now, first bool) {
	set := func(f *engine.Facts) { f.Online = now }
	what := phrase.Offline
	if now {
		what = phrase.Online
	}
	if first || b.Facts().Online == now {
		b.Learn(set)
		return
	}
	b.Post(workstation.Notice{Event: what}, set)
}
