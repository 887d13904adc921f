package mysql_test

import (
	"bytes"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jollylarder/internal/wire/link"
)

// peer is a server that asks for passwords as MySQL 8 does by caching_sha2_password, when it does not know them yet.
type peer struct {
	tls      *tls.Config
	password string
	key      *rsa.PrivateKey
}

// nonce is its challenge.
var nonce = []byte("abcdefghijklmnopqrst")

func (p *peer) serve(t testing.TB) string {
	var err error
	p.key, err = rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	return listens(t, p.client)
}

// client serves one.
func (p *peer) client(c net.Conn) {
	caps := uint32(capabilities &^ (1 << 3))
	if p.tls != nil {
		caps |= 1 << 11
	}
	greeting := append([]byte("\x0a8.0.99\x00\x01\x00\x00\x00"), nonce[:8]...)
	greeting = append(greeting, 0, byte(caps), byte(caps>>8), 45, 2, 0, byte(caps>>16), byte(caps>>24), 21)
	greeting = append(append(greeting, make([]byte, 10)...), nonce[8:]...)
	greeting = append(append(greeting, 0), "caching_sha2_password\x00"...)
	_, _ = c.Write(packet(0, greeting))
	n, intro, err := take(c)
	if len(intro) == 32 && p.tls != nil {
		secured := tls.Server(c, p.tls)
		c = secured
		n, _, err = take(c)
	}
	if err != nil {
		return
	}
	n = p.send(c, n, []byte{1, 4})
	_, answer, _ := take(c)
	n++
	if p.tls == nil {
		if !bytes.Equal(answer, []byte{2}) { // the password itself, in the open
			p.send(c, n, append([]byte("\xff\x15\x04#28000"), "it was not encrypted"...))
			return
		}
		der, _ := x509.MarshalPKIXPublicKey(&p.key.PublicKey)
		n = p.send(c, n, append([]byte{1}, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})...))
		_, answer, _ = take(c)
		n++
		text, err := rsa.DecryptOAEP(sha1.New(), rand.Reader, p.key, answer, nil)
		if err != nil {
			return
		}
		for i := range text {
			text[i] ^= nonce[i%len(nonce)]
		}
		answer = text
	}
	if string(answer) != p.password+"\x00" {
		p.send(c, n, append([]byte("\xff\x15\x04#28000"), "wrong"...))
		return
	}
	p.send(c, n, []byte{0, 0, 0, 2, 0, 0, 0})
	for {
		n, command, err := take(c)
		if err != nil || command[0] == 1 {
			return
		}
		p.send(c, n, []byte{0, 0, 0, 2, 0, 0, 0})
	}
}

// send sends the packet behind number n.
func (p *peer) send(c net.Conn, n byte, body []byte) byte {
	_, _ = c.Write(packet(n+1, body))
	return n + 1
}

// A password that the server does not know yet gets there whichever side has TLS, and never in the open.
func TestPasswordsThatTheServerDoesNotKnowYet(t *testing.T) {
	for _, near := range []bool{false, true} {
		for _, far := range []bool{false, true} {
			t.Run(fmt.Sprintf("TLS from the client %t, to the server %t", near, far), func(t *testing.T) {
				p, set, options := &peer{password: "Quay#7 of the north, with more letters than the challenge"}, link.Settings{}, "tls=false"
				if near {
					set.ClientTLS, options = clientTLS(t), "tls=skip-verify"
				}
				if far {
					p.tls = clientTLS(t)
					set.OriginTLS = link.TLS(link.VerifyFull, "localhost", authority.Pool(), nil)
				}
				l := newLarderBefore(t, p.serve(t), set)
				require.NoError(t, connect(t, l.address, "ines", p.password, options).Ping())
				err := refusal(t, connect(t, l.address, "ines", "guess", options).Ping())
				assert.Equal(t, "wrong", err.Message)
			})
		}
	}
}
