package inspect

import (
	"os"
	"testing"

	"timegate/core/coretest"
	"timegate/workstation/rights"
)

func TestMain(m *testing.M) {
	os.Args = append(os.Args[:1:1], rights.Become(os.Args[1:])...)
	os.Exit(coretest.Main(m))
}
