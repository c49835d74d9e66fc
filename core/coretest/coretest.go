// Package coretest holds what the tests of every room share: how long they wait,
// how much of a long test is played, and how many run side by side.
package coretest

import (
	"flag"
	"fmt"
	"os"
	"testing"
	"time"
)

// Wait bounds how long a test waits for what must come. No test is about how
// fast that is: on a busy machine it comes late, and what never comes is told
// after this time.
const Wait = time.Minute

// atOnce is how many tests of a package run side by side where the caller did
// not say: most of them wait, and need no processor for that.
const atOnce = 12

// Whole tells that long tests are to be played whole, as at night: the variable
// TIMEGATE_TEST_ALL is set. Otherwise each is played in its small size.
func Whole() bool { return os.Getenv("TIMEGATE_TEST_ALL") != "" }

// Size returns how much of a long test is played.
func Size(whole, small, short int) int {
	switch {
	case Whole():
		return whole
	case testing.Short():
		return short
	}
	return small
}

// Main runs the tests of a package whose tests mostly wait, and returns the exit
// status. The environment has no display and no desktop's message bus: a test that
// wants one starts its own. Files get the modes that tests give them.
func Main(m *testing.M) int {
	setUmask()
	Programs()
	for _, name := range []string{"DISPLAY", "WAYLAND_DISPLAY", "XAUTHORITY", "DBUS_SESSION_BUS_ADDRESS"} {
		os.Unsetenv(name)
	}
	flag.Parse()
	given := false
	flag.Visit(func(f *flag.Flag) { given = given || f.Name == "test.parallel" })
	if !given {
		if err := flag.Set("test.parallel", fmt.Sprint(atOnce)); err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
	}
	return m.Run()
}
