// Nharbor brings a freshly cloned multi-service application to life: it finds out what it consists
// of, fills its settings, starts it in the right order and checks that its ports answer.
package main

import (
	"os"

	"nimbleharbor/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }
