// Tiny is the program in the images of the engine's contract tests. Its words say what to do, one
// after another.
package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"nimbleharbor/internal/engine/standin/inside"
)

func main() {
	term := make(chan os.Signal, 1)
	signal.Notify(term, syscall.SIGTERM)
	words := os.Args[1:]
	next := func() string {
		if len(words) == 0 {
			return ""
		}
		w := words[0]
		words = words[1:]
		return w
	}
	for len(words) > 0 {
		switch word := next(); word {
		case "say":
			fmt.Println(next())
		case "complain":
			fmt.Fprintln(os.Stderr, next())
		case "echo":
			io.Copy(os.Stdout, os.Stdin)
		case "env":
			fmt.Println(os.Getenv(next()))
		case "exit":
			code, _ := strconv.Atoi(next())
			os.Exit(code)
		case "write":
			file := inside.Path(next())
			try(os.WriteFile(file, []byte(next()), 0o600))
		case "list":
			entries, err := os.ReadDir(inside.Path(next()))
			try(err)
			for _, e := range entries {
				info, err := e.Info()
				try(err)
				fmt.Println(info.Mode(), e.Name())
			}
		case "read":
			data, err := os.ReadFile(inside.Path(next()))
			try(err)
			fmt.Println(string(data))
		case "serve":
			l, err := inside.Listen(next())
			try(err)
			text := next()
			go func() {
				for {
					c, err := l.Accept()
					if err != nil {
						return
					}
					io.WriteString(c, text)
					c.Close()
				}
			}()
		case "ask":
			ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
			defer cancel()
			c, err := inside.Dial(ctx, next())
			try(err)
			data, err := io.ReadAll(c)
			try(err)
			fmt.Println(string(data))
		case "stay":
			<-term
			fmt.Println("asked to stop")
		case "stay-deaf":
			fmt.Println("deaf")
			select {}
		default:
			try(fmt.Errorf("unknown word %q", word))
		}
	}
}

func try(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(3)
	}
}
