//go:build linux

package window

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// display is an X server of this machine, by the name that DISPLAY gives it
// (X(7)).
type display struct {
	number int
	screen string // as in ".0", or ""
}

func parseDisplay(name string) (display, error) {
	host, rest, ok := strings.Cut(name, ":")
	number, screen, dot := strings.Cut(rest, ".")
	n, err := strconv.Atoi(number)
	if !ok || err != nil || n < 0 || host != "" && host != "unix" {
		return display{}, fmt.Errorf("the display %q is not one of this machine", name)
	}
	if dot {
		screen = "." + screen
	}
	return display{n, screen}, nil
}

func socketOf(number int) string { return fmt.Sprintf("/tmp/.X11-unix/X%d", number) }

func (d display) dial() (*net.UnixConn, error) {
	return net.DialUnix("unix", nil, &net.UnixAddr{Name: socketOf(d.number), Net: "unix"})
}

// cookie is what shows a server that one may connect to it.
type cookie struct{ name, data []byte }

// The families of addresses in an Xauthority file that matter here
// (Xsecurity(7), Xau(3)).
const (
	familyLocal   = 256
	familyWild    = 65535
	authoritySize = 1 << 20
)

// cookieFor finds the cookie for a display in the file that XAUTHORITY names.
// Without one, the server may still know the person by other means.
func cookieFor(d display) cookie {
	path := os.Getenv("XAUTHORITY")
	if path == "" {
		path = filepath.Join(os.Getenv("HOME"), ".Xauthority")
	}
	// The file is the person's: it may be anything.
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return cookie{}
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return cookie{}
	}
	data, _ := io.ReadAll(io.LimitReader(f, authoritySize))
	host, _ := os.Hostname()
	return findCookie(data, host, d.number)
}

// findCookie reads entries of: family, then address, number, name and data,
// each with its length before it, all numbers big-endian.
func findCookie(data []byte, host string, number int) cookie {
	r := bytes.NewReader(data)
	field := func() ([]byte, error) {
		var n uint16
		if err := binary.Read(r, binary.BigEndian, &n); err != nil {
			return nil, err
		}
		b := make([]byte, n)
		_, err := io.ReadFull(r, b)
		return b, err
	}
	for {
		var family uint16
		err := binary.Read(r, binary.BigEndian, &family)
		var f [4][]byte
		for i := range f {
			if err == nil {
				f[i], err = field()
			}
		}
		if err != nil {
			return cookie{}
		}
		here := family == familyWild || family == familyLocal && string(f[0]) == host
		if here && (len(f[1]) == 0 || string(f[1]) == strconv.Itoa(number)) && string(f[2]) == "MIT-MAGIC-COOKIE-1" {
			return cookie{f[2], f[3]}
		}
	}
}

// setup reads a client's connection setup and returns it with the cookie in
// place of what the client has.
func (c cookie) setup(client io.Reader) ([]byte, error) {
	head := make([]byte, 12)
	if _, err := io.ReadFull(client, head); err != nil {
		return nil, err
	}
	native := byte('l')
	if binary.NativeEndian.Uint16([]byte{0, 1}) == 1 {
		native = 'B'
	}
	if head[0] != native {
		return nil, errors.New("a client of another byte order")
	}
	skip := pad(int(order.Uint16(head[6:]))) + pad(int(order.Uint16(head[8:])))
	if _, err := io.CopyN(io.Discard, client, int64(skip)); err != nil {
		return nil, err
	}
	order.PutUint16(head[6:], uint16(len(c.name)))
	order.PutUint16(head[8:], uint16(len(c.data)))
	for _, b := range [][]byte{c.name, c.data} {
		head = append(head, b...)
		head = append(head, make([]byte, pad(len(b))-len(b))...)
	}
	return head, nil
}

// pad returns the length with which something of n bytes is sent.
func pad(n int) int { return (n + wordSize - 1) &^ (wordSize - 1) }
