// Package zones finds time zones by their names. A machine's own zone files
// are preferred, as they may be newer; a machine without any uses the database
// that is built in.
package zones

import (
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	_ "time/tzdata" // for machines without zone files

	"timegate/core/calendar"
	"timegate/core/phrase"
)

//go:embed names.txt
var names string

// Names returns the names of the zones that are built in.
func Names() []string { return strings.Fields(names) }

var cache sync.Map // name -> *calendar.Zone

// Find returns the zone of a name such as Europe/London.
func Find(name string) (*calendar.Zone, error) {
	if z, ok := cache.Load(name); ok {
		return z.(*calendar.Zone), nil
	}
	loc, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil, unknown(name)
	}
	z, _ := cache.LoadOrStore(name, calendar.NewZone(loc))
	return z.(*calendar.Zone), nil
}

// unknown says which zones may have been meant.
func unknown(name string) error {
	all := Names()
	said := func(zone string) error { return fmt.Errorf("there is no time zone %q; did you mean %s?", name, zone) }
	// A city without its continent, or with a wrong one.
	city := func(zone string) string { return zone[strings.LastIndexByte(zone, '/')+1:] }
	wanted := strings.ReplaceAll(city(name), " ", "_")
	if i := slices.IndexFunc(all, func(n string) bool { return strings.EqualFold(n, name) || strings.EqualFold(city(n), wanted) }); i >= 0 {
		return said(all[i])
	}
	if near, ok := phrase.Nearest(name, all); ok {
		return said(near)
	}
	return fmt.Errorf("there is no time zone %q; zones have names such as Europe/London or Asia/Tokyo", name)
}

// Local returns the machine's zone, under its own name where that is known, as
// it was when it was first asked for.
var Local = sync.OnceValue(Read)

// Read reads which zone the machine is in now.
func Read() *calendar.Zone {
	if name := localName(); name != "" {
		if z, err := Find(name); err == nil {
			return z
		}
	}
	return calendar.NewZone(time.Local)
}

// localName finds the name by the rules of tzset: TZ, else the file to which
// /etc/localtime leads.
func localName() string {
	if tz, ok := os.LookupEnv("TZ"); ok {
		tz = strings.TrimPrefix(tz, ":")
		if tz == "" {
			return "UTC"
		}
		return tz
	}
	target, err := filepath.EvalSymlinks("/etc/localtime")
	if err != nil {
		// On a machine without zone files the link leads nowhere, but its
		// text still names the zone.
		if target, err = os.Readlink("/etc/localtime"); err != nil {
			return "UTC"
		}
	}
	if _, name, ok := strings.Cut(target, "/zoneinfo/"); ok {
		return name
	}
	return ""
}
