package socket

import (
	"io"
	"net"
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// A reply that is passed on costs a read and a write on either side, and hardly anything else; so it is worth much to
// have no system call among them that does nothing. The usual way of reading a socket has one: after each message
// another read, which finds nothing, before the goroutine waits. The kernel can tell with each read whether anything is
// left, the end of the stream included (TCP_INQ), so that this read can be left out.
//
// The calls never block, as the sockets do not; so the runtime need not be told that they begin and end.

// Socket is a connection whose bytes are read and written by way of its file descriptor where it has one: TCP and Unix
// sockets. Others, TLS among them, are read and written as connections.
type Socket struct {
	net.Conn
	raw syscall.RawConn // nil where it has none
	inq bool            // the kernel tells what is left
	fd  uintptr         // while it is being read, or 0: it stays open so long

	hdr     unix.Msghdr
	iov     unix.Iovec
	control [inqControl]byte

	put     []byte // being written
	putErr  error
	putting func(fd uintptr) bool
}

// inqControl is the size in bytes of the control message that tells what is left.
const inqControl = unix.SizeofCmsghdr + 8

func New(c net.Conn) *Socket {
	s := &Socket{Conn: c}
	var err error
	switch x := c.(type) {
	case *net.TCPConn:
		if s.raw, err = x.SyscallConn(); err == nil {
			_ = s.raw.Control(func(fd uintptr) {
				s.inq = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_INQ, 1) == nil
			})
		}
	case *net.UnixConn:
		s.raw, err = x.SyscallConn()
	}
	if err != nil {
		s.raw = nil
	}
	s.putting = s.putSome
	return s
}

// Receive reads until the connection ends or got says that it is enough. Space gives where to read to. Got is told how
// much was read, or the error; it says whether to go on, and whether the other side is taken to wait for an answer now.
// Only then may a read be left out that would find nothing: a connection that was cut off behind the last bytes is then
// noticed by that answer.
//
// While got runs, the connection must not be closed by others but severed.
func (s *Socket) Receive(space func() []byte, got func(n int, err error) (more, settled bool)) {
	if s.raw == nil {
		for {
			n, err := s.Conn.Read(space())
			if more, _ := got(n, err); !more || err != nil {
				return
			}
		}
	}
	ended := false
	err := s.raw.Read(func(fd uintptr) bool {
		s.fd = fd
		for {
			n, left, err := s.recv(fd, space())
			if err == unix.EAGAIN {
				return false
			}
			if err == unix.EINTR {
				continue
			}
			if err == nil && n == 0 {
				err = io.EOF
			}
			more, settled := got(n, err)
			if !more || err != nil {
				ended = true
				return true
			}
			if settled && !left {
				return false
			}
		}
	})
	s.fd = 0
	if !ended {
		got(0, err)
	}
}

// recv reads once, and says whether anything may be left.
func (s *Socket) recv(fd uintptr, b []byte) (n int, left bool, err error) {
	s.iov.Base = &b[0]
	s.iov.SetLen(len(b))
	s.hdr.Iov = &s.iov
	s.hdr.SetIovlen(1)
	s.hdr.Control = nil
	s.hdr.SetControllen(0)
	if s.inq {
		s.hdr.Control = &s.control[0]
		s.hdr.SetControllen(len(s.control))
	}
	r, _, errno := syscall.RawSyscall(unix.SYS_RECVMSG, fd, uintptr(unsafe.Pointer(&s.hdr)), 0)
	s.iov.Base = nil
	if errno != 0 {
		return 0, true, errno
	}
	left = true
	if s.inq && s.hdr.Controllen >= unix.SizeofCmsghdr+4 {
		h := (*unix.Cmsghdr)(unsafe.Pointer(&s.control[0]))
		if h.Level == unix.IPPROTO_TCP && h.Type == unix.TCP_CM_INQ {
			left = *(*int32)(unsafe.Pointer(&s.control[unix.SizeofCmsghdr])) != 0
		}
	}
	return int(r), left, nil
}

// Answer is Write for the goroutine that receives, which spares it the way to the descriptor.
func (s *Socket) Answer(b []byte) error {
	if s.fd != 0 && len(b) > 0 {
		n, _, errno := syscall.RawSyscall6(unix.SYS_SENDTO, s.fd, uintptr(unsafe.Pointer(&b[0])), uintptr(len(b)), unix.MSG_NOSIGNAL, 0, 0)
		if errno == 0 {
			b = b[n:]
		}
		if len(b) == 0 {
			return nil
		}
	}
	_, err := s.Write(b) // which waits, or says what is wrong
	return err
}

// Write writes all of b. Only one goroutine may write at a time.
func (s *Socket) Write(b []byte) (int, error) {
	if s.raw == nil {
		return s.Conn.Write(b)
	}
	s.put, s.putErr = b, nil
	err := s.raw.Write(s.putting)
	if err == nil {
		err = s.putErr
	}
	n := len(b) - len(s.put)
	s.put = nil
	return n, err
}

func (s *Socket) putSome(fd uintptr) bool {
	for len(s.put) > 0 {
		n, _, errno := syscall.RawSyscall6(
			unix.SYS_SENDTO,
			fd,
			uintptr(unsafe.Pointer(&s.put[0])),
			uintptr(len(s.put)),
			unix.MSG_NOSIGNAL,
			0,
			0,
		)
		switch errno {
		case 0:
			s.put = s.put[n:]
		case unix.EINTR:
		case unix.EAGAIN:
			return false
		default:
			s.putErr = errno
			return true
		}
	}
	return true
}

// Sever ends a connection both ways, so that whoever reads or writes it finds its end.
func (s *Socket) Sever() { Sever(s.Conn) }
