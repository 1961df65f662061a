package api

import (
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v2"
	"github.com/valyala/fasthttp"
)

const (
	// headTimeout is how long a client has for TLS, the head of a request and the
	// beginning of its body.
	headTimeout = 20 * time.Second
	// answerTimeout is how long a client may take to read an answer; streams of
	// events go on without end.
	answerTimeout = 5 * time.Minute
	// streamTimeout is after how long without a word an agent's answer has broken
	// off; agents say that they are there at least three times in a lease.
	streamTimeout = time.Minute
	// mostConnections is how many connections one address may have.
	mostConnections = 256
	// mostStreams is how many streams of events one session or token may have, and
	// mostStreamsInAll all together.
	mostStreams      = 20
	mostStreamsInAll = 2000
)

// perPath sets what of the time limits depends on the request.
func perPath(head *fasthttp.RequestHeader) fasthttp.RequestConfig {
	if strings.HasPrefix(string(head.RequestURI()), "/api/v1/events") {
		return fasthttp.RequestConfig{}
	}
	return fasthttp.RequestConfig{WriteTimeout: answerTimeout}
}

// address is where a request comes from: the peer, or whom a trusted proxy says.
// What a client itself has put into the header is not believed.
func (s *Server) address(c *fiber.Ctx) string {
	peer, ok := netip.AddrFromSlice(c.Context().RemoteIP())
	peer = peer.Unmap()
	if !ok || !s.trusts(peer) {
		return peer.String()
	}
	hops := strings.Split(c.Get(fiber.HeaderXForwardedFor), ",")
	for i := len(hops) - 1; i >= 0; i-- {
		hop, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		if peer = hop.Unmap(); !s.trusts(peer) {
			break
		}
	}
	return peer.String()
}

func (s *Server) trusts(address netip.Addr) bool {
	for _, prefix := range s.options.TrustedProxies {
		if prefix.Contains(address) {
			return true
		}
	}
	return false
}

// limited lets each address have a limited number of connections, so that one
// cannot use them all up.
type limited struct {
	net.Listener
	server *Server

	mu   sync.Mutex
	open map[netip.Addr]int
}

// Accept refuses further connections of an address by closing them.
func (l *limited) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		remote, ok := conn.RemoteAddr().(*net.TCPAddr)
		if !ok {
			return conn, nil
		}
		address, _ := netip.AddrFromSlice(remote.IP)
		address = address.Unmap()
		if l.server.trusts(address) {
			return conn, nil
		}
		if address.Is6() { // one host has a network of them
			if prefix, err := address.Prefix(64); err == nil {
				address = prefix.Addr()
			}
		}
		l.mu.Lock()
		full := l.open[address] >= mostConnections
		if !full {
			l.open[address]++
		}
		l.mu.Unlock()
		if full {
			_ = conn.Close()
			continue
		}
		return &counted{Conn: conn, end: sync.OnceFunc(func() { l.end(address) })}, nil
	}
}

func (l *limited) end(address netip.Addr) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open[address]--; l.open[address] == 0 {
		delete(l.open, address)
	}
}

// counted is a connection that gives its place back.
type counted struct {
	net.Conn
	end func()
}

func (c *counted) Close() error {
	c.end()
	return c.Conn.Close()
}

// streams counts the streams of events that are open.
type streams struct {
	mu   sync.Mutex
	of   map[string]int // by session or token
	open int
}

func (s *streams) begin(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of == nil {
		s.of = map[string]int{}
	}
	if s.of[id] >= mostStreams || s.open >= mostStreamsInAll {
		return false
	}
	s.of[id]++
	s.open++
	return true
}

func (s *streams) end(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open--
	if s.of[id]--; s.of[id] == 0 {
		delete(s.of, id)
	}
}

// patient gives each read of a stream the time that its sender has between two
// words.
type patient struct {
	conn net.Conn
	from interface{ Read([]byte) (int, error) }
}

func (p patient) Read(into []byte) (int, error) {
	_ = p.conn.SetReadDeadline(time.Now().Add(streamTimeout))
	return p.from.Read(into)
}
