//go:build linux && !torture

package keeper

import "time"

// tortureFor is how long keepers are tortured.
const tortureFor = 8 * time.Second
