package demo

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"
)

// keyValue is a connection to a key-value server that speaks RESP, version 2. Source: the protocol's specification.
type keyValue struct {
	conn net.Conn
	in   *bufio.Reader
}

func dialKeyValue(address string) (*keyValue, error) {
	c, err := net.Dial("tcp", address)
	if err != nil {
		return nil, err
	}
	return &keyValue{c, bufio.NewReader(c)}, nil
}

func (k *keyValue) close() { k.conn.Close() }

func (k *keyValue) send(words ...string) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "*%d\r\n", len(words))
	for _, w := range words {
		fmt.Fprintf(&b, "$%d\r\n%s\r\n", len(w), w)
	}
	if _, err := io.WriteString(k.conn, b.String()); err != nil {
		return "", err
	}
	line, err := k.in.ReadString('\n')
	if err != nil {
		return "", err
	}
	line = strings.TrimSuffix(line, "\r\n")
	if strings.HasPrefix(line, "-") {
		return "", errors.New(line[1:])
	}
	return line, nil
}

// get gives the value of a key, if there is one.
func (k *keyValue) get(key string) (value []byte, ok bool, err error) {
	line, err := k.send("GET", key)
	if err != nil || line == "$-1" {
		return nil, false, err
	}
	n, err := strconv.Atoi(strings.TrimPrefix(line, "$"))
	if err != nil {
		return nil, false, err
	}
	value = make([]byte, n+len("\r\n"))
	if _, err := io.ReadFull(k.in, value); err != nil {
		return nil, false, err
	}
	return value[:n], true, nil
}

// set sets the value of a key for a time.
func (k *keyValue) set(key string, value []byte, ttl time.Duration) error {
	_, err := k.send("SET", key, string(value), "PX", strconv.FormatInt(ttl.Milliseconds(), 10))
	return err
}
