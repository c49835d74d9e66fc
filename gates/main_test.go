package gates

import (
	"os"
	"testing"

	"timegate/core/coretest"
)

func TestMain(m *testing.M) { os.Exit(coretest.Main(m)) }
