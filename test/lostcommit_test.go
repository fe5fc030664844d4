package test

import (
	"bytes"
	"net"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// lostCommit passes connections on to a server and cuts the one that commits, before the
// server has heard of it or after it has answered. Then nobody is let in any more, or
// everybody.
type lostCommit struct {
	listener net.Listener
	armed    atomic.Bool
	answered bool // cut after the answer
	shut     bool // nobody is let in after the cut
	closed   atomic.Bool
}

func newLostCommit(t *testing.T, to string, answered, shut bool) *lostCommit {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	l := &lostCommit{listener: listener, answered: answered, shut: shut}
	t.Cleanup(func() { _ = listener.Close() })
	go func() {
		for {
			near, err := listener.Accept()
			if err != nil {
				return
			}
			if l.closed.Load() {
				_ = near.Close()
				continue
			}
			far, err := net.Dial("tcp", to)
			if err != nil {
				_ = near.Close()
				continue
			}
			l.pass(near, far)
		}
	}()
	return l
}

// commits reports whether a client's packet is a commit: a statement of PostgreSQL, simple
// or prepared, or a command of MariaDB.
func commits(packet []byte) bool {
	return bytes.Contains(packet, []byte("\x00COMMIT\x00")) || bytes.HasSuffix(packet, []byte("\x03COMMIT")) ||
		bytes.HasPrefix(packet, []byte("Q")) && bytes.HasSuffix(packet, []byte("COMMIT\x00"))
}

func (l *lostCommit) pass(near, far net.Conn) {
	var waiting atomic.Bool
	end := func() {
		l.armed.Store(false)
		l.closed.Store(l.shut)
		_ = near.Close()
		_ = far.Close()
	}
	go func() {
		buffer := make([]byte, 64<<10)
		for {
			n, err := near.Read(buffer)
			if err != nil {
				_ = far.Close()
				return
			}
			if l.armed.Load() && commits(buffer[:n]) {
				if !l.answered {
					end()
					return
				}
				waiting.Store(true)
			}
			if _, err := far.Write(buffer[:n]); err != nil {
				return
			}
		}
	}()
	go func() {
		buffer := make([]byte, 64<<10)
		for {
			n, err := far.Read(buffer)
			if err != nil {
				_ = near.Close()
				return
			}
			// PostgreSQL names what it has done; the next words of MariaDB are the answer.
			if waiting.Load() && (buffer[0] == 'C' || bytes.Contains(buffer[:n], []byte("COMMIT\x00")) || buffer[3] == 1) {
				end()
				return
			}
			if _, err := near.Write(buffer[:n]); err != nil {
				return
			}
		}
	}()
}

// The answer to a commit is lost: before the server heard of it, or after it was done, and
// with a server that can be asked afterwards or not. What is said is what is there; what
// cannot be known is not guessed, and importing again does what is left, once.
func TestTheAnswerToACommitIsLost(t *testing.T) {
	t.Parallel()
	for _, engine := range tries(t.Name(), serverEngines...) {
		for _, c := range []struct {
			name           string
			answered, shut bool
			code           int
			outcome        string
			units          int
		}{
			{"done, and it can be asked", true, false, 0, "imported", 2},
			{"not done, and it can be asked", false, false, 1, "failed", 1},
			{"done, and it cannot be asked", true, true, 1, "unknown", 2},
			{"not done, and it cannot be asked", false, true, 1, "unknown", 1},
		} {
			t.Run(engine+" "+c.name, func(t *testing.T) {
				t.Parallel()
				p, address, db := serverPlace(t, engine)
				u, err := url.Parse(address)
				require.NoError(t, err)
				lost := newLostCommit(t, u.Host, c.answered, c.shut)
				u.Host = lost.listener.Addr().String()
				p.target(u.String(), "")
				p.must(0, "export", "source", "--name", "p")
				p.must(3, "match", "p", "--against", "target")
				p.must(0, "approve", "*")
				lost.armed.Store(true)
				doc := p.json(c.code, "import")
				require.False(t, lost.armed.Load(), "a commit was seen")
				assert.Equal(t, c.outcome, doc["outcome"])
				assert.Equal(t, c.units, countUnits(t, db))
				history := p.must(0, "history", "1").out
				assert.Contains(t, history, c.outcome)

				lost.closed.Store(false)
				if c.outcome == "unknown" {
					p.refused("It is not known yet how the last import of docket 1 ended, so nothing is decided on top of it. Find it out with anagram import 1, then decide", "decline", "unit/g")
				}
				r := p.must(0, "import") // what the message says
				if c.outcome == "unknown" && c.answered {
					assert.Contains(t, words(r.out), "How the last import of docket 1 ended was not known. target shows that it was imported: 3 new and 1 changed records.")
					assert.Contains(t, p.must(0, "history").out, "3 new, 1 changed")
				} else if c.outcome == "unknown" {
					assert.Contains(t, words(r.out), "target shows that nothing of it was written.")
				}
				if c.units == 2 {
					assert.Contains(t, words(r.out), "There was nothing left to write to target. 4 records held the approved values already.")
				} else {
					assert.Contains(t, words(r.out), "read back and found equal")
				}
				assert.Equal(t, 2, countUnits(t, db), "nothing is written twice")
				p.must(0, "match", "p", "--against", "target")
			})
		}
	}
}
