package demo

import (
	"bufio"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"nimbleharbor/internal/engine/standin/inside"
	"nimbleharbor/internal/expr"
)

// The ledger is the demo's database. It speaks the PostgreSQL frontend/backend protocol 3.0, as far
// as a password, simple queries and errors go, and knows two statements:
//
//	INSERT INTO table VALUES ('text')
//	SELECT line FROM table

var (
	insertInto = expr.New(`^INSERT INTO (\w+) VALUES \('((?:[^']|'')*)'\)$`)
	selectFrom = expr.New(`^SELECT line FROM (\w+)$`)
)

// ledgerData is what the volume holds. The password is that of the first start, and stays.
type ledgerData struct {
	User, Password string
	Tables         map[string][]string
}

type ledgerServer struct {
	file string
	mu   sync.Mutex
	data ledgerData
}

func actDatabase([]string) error {
	s := &ledgerServer{file: inside.Path("/var/lib/ferry/ledger.json")}
	data, err := os.ReadFile(s.file)
	switch {
	case errors.Is(err, os.ErrNotExist):
		s.data = ledgerData{User: os.Getenv("FERRY_DB_USER"),
			Password: os.Getenv("FERRY_DB_PASSWORD"), Tables: map[string][]string{}}
		if s.data.Password == "" {
			return errors.New("FERRY_DB_PASSWORD is empty: a new ledger needs a password")
		}
		fmt.Println("a new ledger was begun")
		if err := s.save(); err != nil {
			return err
		}
	case err != nil:
		return err
	default:
		if err := json.Unmarshal(data, &s.data); err != nil {
			return fmt.Errorf("the ledger is torn: %w", err)
		}
		fmt.Println("the ledger was found, with its own password")
	}
	l, err := inside.Listen(":5432")
	if err != nil {
		return err
	}
	fmt.Println("the database listens on 5432")
	return acceptUntilAsked(l, s.serve)
}

// acceptUntilAsked serves every connection until the process is asked to stop.
func acceptUntilAsked(l net.Listener, serve func(net.Conn) error) error {
	ctx := asked()
	go func() {
		<-ctx.Done()
		l.Close()
	}()
	for {
		c, err := l.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
		go func() {
			defer c.Close()
			serve(c)
		}()
	}
}

func (s *ledgerServer) save() error {
	data, err := json.Marshal(s.data)
	if err != nil {
		return err
	}
	temp := s.file + ".new"
	if err := os.MkdirAll(filepath.Dir(s.file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(temp, data, 0o600); err != nil {
		return err
	}
	return os.Rename(temp, s.file)
}

// message writes one message: its type, its length and its body.
func message(w io.Writer, kind byte, body []byte) error {
	out := append([]byte{kind}, binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))...)
	_, err := w.Write(append(out, body...))
	return err
}

const maxMessage = 1 << 20

func readMessage(r io.Reader) (kind byte, body []byte, err error) {
	head := make([]byte, 5)
	if _, err = io.ReadFull(r, head); err != nil {
		return
	}
	body, err = readBody(r, head[1:])
	return head[0], body, err
}

func readBody(r io.Reader, length []byte) ([]byte, error) {
	n := binary.BigEndian.Uint32(length)
	if n < 4 || n > maxMessage {
		return nil, errors.New("a message of an impossible length")
	}
	body := make([]byte, n-4)
	_, err := io.ReadFull(r, body)
	return body, err
}

func failure(w io.Writer, code, text string) error {
	return message(w, 'E', []byte("SERROR\x00C"+code+"\x00M"+text+"\x00\x00"))
}

func (s *ledgerServer) serve(c net.Conn) error {
	r := bufio.NewReader(c)
	var user string
	for {
		length := make([]byte, 4)
		if _, err := io.ReadFull(r, length); err != nil {
			return err
		}
		body, err := readBody(r, length)
		if err != nil || len(body) < 4 {
			return err
		}
		if code := binary.BigEndian.Uint32(body); code == 80877103 { // the request for TLS
			if _, err := c.Write([]byte("N")); err != nil {
				return err
			}
			continue
		}
		fields := strings.Split(string(body[4:]), "\x00")
		for i := 0; i+1 < len(fields); i += 2 {
			if fields[i] == "user" {
				user = fields[i+1]
			}
		}
		break
	}
	if err := message(c, 'R', []byte{0, 0, 0, 3}); err != nil { // asks for the password
		return err
	}
	kind, body, err := readMessage(r)
	if err != nil || kind != 'p' {
		return err
	}
	if user != s.data.User || strings.TrimRight(string(body), "\x00") != s.data.Password {
		return failure(c, "28P01", fmt.Sprintf("password authentication failed for user %q", user))
	}
	if err := message(c, 'R', []byte{0, 0, 0, 0}); err != nil {
		return err
	}
	for {
		if err := message(c, 'Z', []byte("I")); err != nil {
			return err
		}
		kind, body, err := readMessage(r)
		if err != nil || kind == 'X' {
			return err
		}
		if kind != 'Q' {
			return failure(c, "08P01", "only simple queries are understood here")
		}
		if err := s.query(c, strings.TrimRight(string(body), "\x00")); err != nil {
			return err
		}
	}
}

func (s *ledgerServer) query(c net.Conn, sql string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if m := insertInto.FindStringSubmatch(sql); m != nil {
		s.data.Tables[m[1]] = append(s.data.Tables[m[1]], strings.ReplaceAll(m[2], "''", "'"))
		if err := s.save(); err != nil {
			return failure(c, "58030", err.Error())
		}
		return message(c, 'C', []byte("INSERT 0 1\x00"))
	}
	m := selectFrom.FindStringSubmatch(sql)
	if m == nil {
		return failure(c, "42601", "this statement is not understood")
	}
	column := append([]byte{0, 1}, "line\x00"...)
	column = append(column, 0, 0, 0, 0, 0, 0, 0, 0, 0, 25, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0, 0)
	if err := message(c, 'T', column); err != nil {
		return err
	}
	rows := s.data.Tables[m[1]]
	for _, row := range rows {
		b := binary.BigEndian.AppendUint32([]byte{0, 1}, uint32(len(row)))
		if err := message(c, 'D', append(b, row...)); err != nil {
			return err
		}
	}
	return message(c, 'C', fmt.Appendf(nil, "SELECT %d\x00", len(rows)))
}

// ledgerClient is a connection to the ledger.
type ledgerClient struct {
	mu   sync.Mutex
	conn net.Conn
	r    *bufio.Reader
}

func openLedger(conn net.Conn, user, password, database string) (*ledgerClient, error) {
	l := &ledgerClient{conn: conn, r: bufio.NewReader(conn)}
	body := binary.BigEndian.AppendUint32(nil, 3<<16)
	body = append(body, "user\x00"+user+"\x00database\x00"+database+"\x00\x00"...)
	first := binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))
	if _, err := conn.Write(append(first, body...)); err != nil {
		return nil, err
	}
	for {
		kind, body, err := readMessage(l.r)
		switch {
		case err != nil:
			return nil, fmt.Errorf("the database hung up: %w", err)
		case kind == 'E':
			return nil, errors.New(errorText(body))
		case kind == 'R' && len(body) == 4 && body[3] == 3:
			if err := message(conn, 'p', []byte(password+"\x00")); err != nil {
				return nil, err
			}
		case kind == 'Z':
			return l, nil
		}
	}
}

func errorText(body []byte) string {
	for _, f := range strings.Split(string(body), "\x00") {
		if strings.HasPrefix(f, "M") {
			return f[1:]
		}
	}
	return "the database refused"
}

// Write enters a line into a table.
func (l *ledgerClient) Write(table, line string) error {
	_, err := l.do(fmt.Sprintf("INSERT INTO %s VALUES ('%s')", table,
		strings.ReplaceAll(line, "'", "''")))
	return err
}

// Read gives the lines of a table.
func (l *ledgerClient) Read(table string) ([]string, error) {
	return l.do("SELECT line FROM " + table)
}

func (l *ledgerClient) do(sql string) (rows []string, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := message(l.conn, 'Q', []byte(sql+"\x00")); err != nil {
		return nil, err
	}
	var failed error
	for {
		kind, body, err := readMessage(l.r)
		switch {
		case err != nil:
			return nil, err
		case kind == 'E':
			failed = errors.New(errorText(body))
		case kind == 'D' && len(body) >= 6:
			rows = append(rows, string(body[6:]))
		case kind == 'Z':
			return rows, failed
		}
	}
}

// Close ends the connection.
func (l *ledgerClient) Close() error { return l.conn.Close() }
