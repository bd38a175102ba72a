// Dial stands for ssh in a test: whatever it is told, it connects its input and output to the
// socket that SOCKET names, or, for a port, to the address that -W names. Without SOCKET it
// refuses.
package main

import (
	"fmt"
	"io"
	"net"
	"os"
	"slices"
)

func main() {
	network, address := "unix", os.Getenv("SOCKET")
	if address == "" {
		fmt.Fprintln(os.Stderr, "Permission denied (publickey).")
		os.Exit(255)
	}
	if i := slices.Index(os.Args, "-W"); i > 0 {
		network, address = "tcp", os.Args[i+1]
	}
	c, err := net.Dial(network, address)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	go func() {
		io.Copy(c, os.Stdin)
		c.(interface{ CloseWrite() error }).CloseWrite()
	}()
	io.Copy(os.Stdout, c)
}
