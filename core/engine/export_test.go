package engine

import "timegate/core/calendar"

// First returns the first due that a skip stands for.
func (d *Decision) First() calendar.Instant { return d.first }
