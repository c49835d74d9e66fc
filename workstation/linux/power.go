//go:build linux

package linux

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"timegate/core/engine"
	"timegate/core/phrase"
	"timegate/workstation"
)

// supplies is where the kernel describes power supplies
// (Documentation/ABI/testing/sysfs-class-power in the kernel).
const supplies = "/sys/class/power_supply"

// power is what the machine runs on.
type power struct {
	battery bool
	charge  int // percent; 0 where that is not known
}

// readPower reads what supplies there are. A machine without a battery runs
// on mains power.
func readPower(dir string) power {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return power{}
	}
	var line, plugged, discharging bool
	var batteries, sum int
	for _, e := range entries {
		get := func(name string) string {
			b, err := os.ReadFile(filepath.Join(dir, e.Name(), name))
			if err != nil {
				return ""
			}
			return strings.TrimSpace(string(b))
		}
		switch kind := get("type"); {
		case get("scope") == "Device": // a mouse's battery is none of ours
		case kind == "Battery":
			if get("present") == "0" {
				continue
			}
			if n, err := strconv.Atoi(get("capacity")); err == nil {
				batteries, sum = batteries+1, sum+n
			}
			discharging = discharging || get("status") == "Discharging"
		case kind == "Mains" || kind == "USB" || kind == "Wireless":
			line = true
			online := get("online")
			plugged = plugged || online != "" && online != "0"
		}
	}
	if batteries == 0 {
		return power{battery: discharging}
	}
	return power{battery: !plugged && (line || discharging), charge: sum / batteries}
}

// postPower tells of the power, and of a change between mains and battery.
func postPower(b *workstation.Board, now power, first bool) {
	set := func(f *engine.Facts) { f.OnBattery, f.Charge = now.battery, now.charge }
	what := phrase.Mains
	if now.battery {
		what = phrase.Battery
	}
	if first || b.Facts().OnBattery == now.battery {
		b.Learn(set)
		return
	}
	b.Post(workstation.Notice{Event: what}, set)
}
