// Command timegate starts programs at boot, at times and on events, tells
// beforehand what it will do and afterwards why it did it.
package main

import (
	"os"

	"timegate/cli"
)

func main() {
	os.Exit(cli.Main(os.Args))
}
