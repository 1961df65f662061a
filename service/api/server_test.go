package api

import (
	"net"
	"net/http"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/service"
)

// watched tells how long each wait for a client may last.
type watched struct {
	net.Listener
	reads chan time.Time
}

type watchedConn struct {
	net.Conn
	reads    chan time.Time
	deadline time.Time
}

func (w watched) Accept() (net.Conn, error) {
	conn, err := w.Listener.Accept()
	return &watchedConn{Conn: conn, reads: w.reads}, err
}

func (c *watchedConn) SetReadDeadline(deadline time.Time) error {
	c.deadline = deadline
	return c.Conn.SetReadDeadline(deadline)
}

func (c *watchedConn) Read(p []byte) (int, error) {
	c.reads <- c.deadline
	return c.Conn.Read(p)
}

// A client that keeps its connection must not lose it while it writes its
// next request: Go's keeps one for 90 s, and repeats no POST.
func TestAKeptConnectionOutlivesItsClientsPatience(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	reads := make(chan time.Time, 100)
	server := New(service.New(nil, nil, service.Options{}), Options{Console: fstest.MapFS{}})
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(watched{listener, reads}) }()
	response, err := http.Post("http://"+listener.Addr().String()+"/api/v1/session", "application/json", strings.NewReader(`{}`))
	require.NoError(t, err)
	require.NoError(t, response.Body.Close())
	require.Equal(t, http.StatusUnprocessableEntity, response.StatusCode)
	first := time.Until(<-reads)
	assert.Positive(t, first, "whoever says nothing, or a byte now and then, does not stay for ever")
	assert.LessOrEqual(t, first, headTimeout)
	assert.Greater(t, time.Until(<-reads), http.DefaultTransport.(*http.Transport).IdleConnTimeout, "the wait for the next one")
	http.DefaultClient.CloseIdleConnections()
	require.NoError(t, server.Close())
	require.NoError(t, <-ended)
}
