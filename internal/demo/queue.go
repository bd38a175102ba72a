package demo

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strconv"
	"strings"
	"sync"

	"nimbleharbor/internal/engine/standin/inside"
)

// The queue speaks RESP, the protocol of Redis, and knows PING, RPUSH and BLPOP.

type queueServer struct {
	mu    sync.Mutex
	more  *sync.Cond
	lists map[string][]string
}

func newQueue() *queueServer {
	q := &queueServer{lists: map[string][]string{}}
	q.more = sync.NewCond(&q.mu)
	return q
}

func actQueue([]string) error {
	q := newQueue()
	l, err := inside.Listen(":6379")
	if err != nil {
		return err
	}
	fmt.Println("the queue listens on 6379")
	return acceptUntilAsked(l, q.serve)
}

func (q *queueServer) serve(c net.Conn) error {
	r := bufio.NewReader(c)
	for {
		words, err := readCommand(r)
		if err != nil {
			return err
		}
		if len(words) == 0 {
			continue
		}
		reply := "-ERR unknown command\r\n"
		switch strings.ToUpper(words[0]) {
		case "PING":
			reply = "+PONG\r\n"
		case "RPUSH":
			if len(words) == 3 {
				q.mu.Lock()
				q.lists[words[1]] = append(q.lists[words[1]], words[2])
				reply = fmt.Sprintf(":%d\r\n", len(q.lists[words[1]]))
				q.more.Broadcast()
				q.mu.Unlock()
			}
		case "BLPOP":
			if len(words) == 3 {
				q.mu.Lock()
				for len(q.lists[words[1]]) == 0 {
					q.more.Wait()
				}
				v := q.lists[words[1]][0]
				q.lists[words[1]] = q.lists[words[1]][1:]
				q.mu.Unlock()
				reply = array(words[1], v)
			}
		}
		if _, err := io.WriteString(c, reply); err != nil {
			return err
		}
	}
}

func array(words ...string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "*%d\r\n", len(words))
	for _, w := range words {
		fmt.Fprintf(&out, "$%d\r\n%s\r\n", len(w), w)
	}
	return out.String()
}

// readCommand reads an array of strings, or an inline command.
func readCommand(r *bufio.Reader) ([]string, error) {
	line, err := r.ReadString('\n')
	if err != nil {
		return nil, err
	}
	line = strings.TrimSpace(line)
	if !strings.HasPrefix(line, "*") {
		return strings.Fields(line), nil
	}
	n, err := strconv.Atoi(line[1:])
	if err != nil || n < 0 || n > 64 {
		return nil, errors.New("an array of an impossible length")
	}
	words := make([]string, n)
	for i := range words {
		head, err := r.ReadString('\n')
		if err != nil {
			return nil, err
		}
		size, err := strconv.Atoi(strings.TrimSpace(strings.TrimPrefix(head, "$")))
		if err != nil || size < 0 || size > maxMessage {
			return nil, errors.New("a string of an impossible length")
		}
		b := make([]byte, size+2)
		if _, err := io.ReadFull(r, b); err != nil {
			return nil, err
		}
		words[i] = string(b[:size])
	}
	return words, nil
}

// queueClient is a connection to the queue that QUEUE_URL names.
type queueClient struct {
	mu   sync.Mutex
	conn net.Conn
	r    *bufio.Reader
}

func openQueue(ctx context.Context) (*queueClient, error) {
	u, err := url.Parse(os.Getenv("QUEUE_URL"))
	if err != nil || u.Host == "" {
		return nil, errors.New("QUEUE_URL is not set, or is no address")
	}
	c, err := inside.Dial(ctx, u.Host)
	if err != nil {
		return nil, err
	}
	return newQueueClient(c), nil
}

func newQueueClient(c net.Conn) *queueClient { return &queueClient{conn: c, r: bufio.NewReader(c)} }

// Push adds to the end of a list.
func (q *queueClient) Push(list, value string) error {
	q.mu.Lock()
	defer q.mu.Unlock()
	if _, err := io.WriteString(q.conn, array("RPUSH", list, value)); err != nil {
		return err
	}
	line, err := q.r.ReadString('\n')
	if err == nil && !strings.HasPrefix(line, ":") {
		err = errors.New("the queue says " + strings.TrimSpace(line))
	}
	return err
}

// Pop waits for the first of a list.
func (q *queueClient) Pop(list string) (string, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if _, err := io.WriteString(q.conn, array("BLPOP", list, "0")); err != nil {
		return "", err
	}
	words, err := readCommand(q.r)
	if err != nil || len(words) != 2 {
		return "", errors.Join(err, errors.New("the queue gave no answer"))
	}
	return words[1], nil
}

// Close ends the connection.
func (q *queueClient) Close() error { return q.conn.Close() }
