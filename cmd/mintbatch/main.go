// Command mintbatch makes virtual machines from templates, each with its own
// customization, from an inventory sheet.
package main

import (
	"os"
	_ "time/tzdata" // time zones are checked also where the system has no list of them

	"mintbatch/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }
