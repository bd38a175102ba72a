// Command bare does nothing with the library of the command line. What nharbor takes longer to
// start is its own.
package main

import (
	"os"

	"github.com/spf13/cobra"
)

func main() {
	bare := &cobra.Command{Use: "bare", Version: "1"}
	bare.AddCommand(&cobra.Command{Use: "nothing", Run: func(*cobra.Command, []string) {}})
	if bare.Execute() != nil {
		os.Exit(1)
	}
}
