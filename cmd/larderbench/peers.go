package main

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// What the larder is compared with, each in a process of its own: a relay that only copies bytes, and a stub that
// answers every request with the same bytes. Neither knows more of the protocol than it must.

// relay copies between every client and a connection of its own to the target, either way as copy does.
func relay(listen, target string, copy func(dst, src net.Conn)) error {
	return accepts(listen, func(c net.Conn) {
		o, err := net.Dial("tcp", target)
		if err != nil {
			c.Close()
			return
		}
		go copy(o, c)
		copy(c, o)
	})
}

// pump copies with a buffer of its own and not by io.Copy, which for two TCP connections is a system call of another
// kind: it was measured to be slower for short messages.
func pump(dst, src net.Conn) {
	defer dst.Close()
	buf := make([]byte, 32<<10)
	for {
		n, err := src.Read(buf)
		if n > 0 {
			if _, err := dst.Write(buf[:n]); err != nil {
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// canned is what the stub answers with, as the database did.
type canned struct {
	Login            []byte // to the start-up message
	Simple, Prepared []byte // to a Query, and to a Sync
}

// accepts has each client that connects be served.
func accepts(listen string, serve func(net.Conn)) error {
	l, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	for {
		c, err := l.Accept()
		if err != nil {
			return err
		}
		go serve(c)
	}
}

// serve answers as it was told.
func (c canned) serve(conn net.Conn) {
	defer conn.Close()
	buf := make([]byte, 32<<10) // with room for the longest of the larder's own questions
	have := 0
	started := false
	for {
		n, err := conn.Read(buf[have:])
		if err != nil {
			return
		}
		have += n
		at := 0
		for {
			kind, size := byte(0), 0
			switch {
			case !started && have-at >= 4:
				size = int(binary.BigEndian.Uint32(buf[at:]))
			case have-at >= 5:
				kind, size = buf[at], 1+int(binary.BigEndian.Uint32(buf[at+1:]))
			}
			if size == 0 || have-at < size {
				break
			}
			at += size
			var reply []byte
			switch {
			case !started:
				started, reply = true, c.Login
			case kind == 'Q':
				reply = c.Simple
			case kind == 'S':
				reply = c.Prepared
			}
			if reply != nil {
				if _, err := conn.Write(reply); err != nil {
					return
				}
			}
		}
		have = copy(buf, buf[at:have])
	}
}

// process is one that the benchmark started.
type process struct {
	name string
	cmd  *exec.Cmd
	mu   sync.Mutex // of log
	log  bytes.Buffer
}

// Write takes down what the process says.
func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.log.Write(b)
}

func startProcess(name, program string, args ...string) (*process, error) {
	p := &process{name: name, cmd: exec.Command(program, args...)}
	p.cmd.Stdout, p.cmd.Stderr = p, p
	p.cmd.Env = append(os.Environ(), "GODEBUG=gctrace=1")
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	return p, p.cmd.Start()
}

func (p *process) stop() {
	if p == nil || p.cmd.Process == nil {
		return
	}
	_ = p.cmd.Process.Signal(syscall.SIGKILL)
	_ = p.cmd.Wait()
}

// processor is how much processor time a process has used.
func (p *process) processor() time.Duration {
	if p == nil {
		return 0
	}
	var total int64
	threads, _ := filepath.Glob(filepath.Join("/proc", strconv.Itoa(p.cmd.Process.Pid), "task", "*", "schedstat"))
	for _, file := range threads {
		if text, err := os.ReadFile(file); err == nil {
			ns, _ := strconv.ParseInt(strings.Fields(string(text))[0], 10, 64)
			total += ns
		}
	}
	return time.Duration(total)
}

// freePort gives an address of the loopback that nobody listens on.
func freePort() (string, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return "", err
	}
	defer l.Close()
	return l.Addr().String(), nil
}

// listening waits until an address accepts connections.
func listening(p *process, address string) error {
	for range 200 {
		if c, err := net.Dial("tcp", address); err == nil {
			return c.Close()
		}
		time.Sleep(25 * time.Millisecond)
	}
	return fmt.Errorf("%s does not listen on %s: %s", p.name, address, p.log.String())
}

// startup makes a start-up message.
func startup(user, database string) []byte {
	body := binary.BigEndian.AppendUint32(nil, 3<<16)
	for _, s := range []string{"user", user, "database", database, "application_name", "larderbench"} {
		body = append(append(body, s...), 0)
	}
	body = append(body, 0)
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+4)), body...)
}

// message makes a message.
func message(kind byte, body ...[]byte) []byte {
	out := []byte{kind, 0, 0, 0, 0}
	for _, b := range body {
		out = append(out, b...)
	}
	binary.BigEndian.PutUint32(out[1:], uint32(len(out)-1))
	return out
}

// untilReady reads messages up to and with ReadyForQuery and gives their bytes, unless keep is false.
func untilReady(r io.Reader, keep bool) ([]byte, error) {
	var all []byte
	head := make([]byte, 5)
	for {
		if _, err := io.ReadFull(r, head); err != nil {
			return nil, err
		}
		n := int64(binary.BigEndian.Uint32(head[1:])) - 4
		if head[0] == 'E' {
			text := make([]byte, n)
			_, err := io.ReadFull(r, text)
			return nil, errors.Join(fmt.Errorf("the server says %q", text), err)
		}
		if !keep {
			if _, err := io.CopyN(io.Discard, r, n); err != nil {
				return nil, err
			}
		} else {
			all = append(all, head...)
			at := len(all)
			all = append(all, make([]byte, n)...)
			if _, err := io.ReadFull(r, all[at:]); err != nil {
				return nil, err
			}
		}
		if head[0] == 'Z' {
			return all, nil
		}
	}
}
