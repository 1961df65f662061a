// Package audit passes acts on to where others look for them: a file of JSON lines, or
// syslog (RFC 5424). Each act goes out once to each stream, in the order in which they were
// noted, and later when the other side is away; of several services on a database one at a
// time does it.
package audit

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"time"

	"github.com/leodido/go-syslog/v4/rfc5424"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

const (
	every  = time.Second
	atOnce = 200
	// patience is how long the other side may take for one batch.
	patience = 10 * time.Second
)

// Stream is where acts go.
type Stream struct {
	// Name tells it from others on the same database.
	Name string
	send func([]store.Act) error
}

// File is a stream to a file, which is opened for each batch, so that it can be moved away.
func File(path string) (Stream, error) {
	absolute, err := filepath.Abs(path)
	if err != nil {
		return Stream{}, err
	}
	file, err := os.OpenFile(absolute, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return Stream{}, fmt.Errorf("open the file for the audit: %w", err)
	}
	_ = file.Close()
	host, _ := os.Hostname()
	return Stream{"file:" + host + ":" + absolute, func(acts []store.Act) error { return appendTo(absolute, acts) }}, nil
}

func appendTo(path string, acts []store.Act) error {
	var lines []byte
	for _, a := range acts {
		line, err := json.Marshal(views.Act(a))
		if err != nil {
			return err
		}
		lines = append(append(lines, line...), '\n')
	}
	file, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := file.Write(lines); err != nil {
		_ = file.Close()
		return err
	}
	return file.Close()
}

// Syslog is a stream to a collector: udp://host:port (RFC 5426), tcp://host:port (RFC 6587,
// octet counting), or unix:///path of a datagram socket.
func Syslog(address string) (Stream, error) {
	u, err := url.Parse(address)
	if err != nil {
		return Stream{}, fmt.Errorf("the address of syslog: %w", err)
	}
	network, target := u.Scheme, u.Host
	switch {
	case (network == "udp" || network == "tcp") && u.Port() != "" && u.Path == "":
	case network == "unix" && u.Path != "" && u.Host == "":
		network, target = "unixgram", u.Path
	default:
		return Stream{}, fmt.Errorf("%q is no address of syslog: write udp://host:port, tcp://host:port or unix:///dev/log", address)
	}
	return Stream{"syslog:" + address, func(acts []store.Act) error { return sendTo(network, target, acts) }}, nil
}

func sendTo(network, target string, acts []store.Act) error {
	connection, err := net.DialTimeout(network, target, patience)
	if err != nil {
		return err
	}
	defer connection.Close()
	if err := connection.SetDeadline(time.Now().Add(patience)); err != nil {
		return err
	}
	for _, a := range acts {
		text, err := message(a)
		if err != nil {
			return err
		}
		if network == "tcp" {
			text = strconv.Itoa(len(text)) + " " + text
		}
		if _, err := connection.Write([]byte(text)); err != nil {
			return err
		}
	}
	return nil
}

// The priorities (RFC 5424 section 6.2.1) are of the facility 13, log audit.
const (
	audit   = 13 * 8
	notice  = audit + 5
	warning = audit + 4
)

// structured is the id of what is told as data, with the number that RFC 5612 keeps for
// documentation.
const structured = "act@32473"

func message(a store.Act) (string, error) {
	host, _ := os.Hostname()
	if host == "" {
		host = "-"
	}
	priority := uint8(notice)
	if a.Result != act.Done {
		priority = warning
	}
	m := &rfc5424.SyslogMessage{}
	m.SetPriority(priority).SetVersion(1).SetTimestamp(a.At.UTC().Format("2006-01-02T15:04:05.000000Z07:00")).SetHostname(host).SetAppname("kambrel").SetProcID(strconv.Itoa(os.Getpid())).SetMsgID(string(a.Kind))
	for name, value := range map[string]string{
		"number": strconv.FormatInt(a.ID, 10), "by": a.By, "origin": a.Origin, "about": string(a.About), "subject": a.Subject, "result": string(a.Result), "before": string(a.Before), "after": string(a.After),
	} {
		if value != "" {
			m.SetParameter(structured, name, value)
		}
	}
	text := fmt.Sprintf("%s: %s: %s", a.By, act.Describe(a.Kind).Title, a.Name)
	if a.Note != "" {
		text += " (" + a.Note + ")"
	}
	m.SetMessage(text)
	return m.String()
}

// Audit passes acts on until Stop.
type Audit struct {
	store   *store.Store
	streams []Stream
	group   sync.WaitGroup
	stop    context.CancelFunc
}

// New makes one.
func New(s *store.Store, streams []Stream) *Audit { return &Audit{store: s, streams: streams} }

// Start begins to pass acts on.
func (a *Audit) Start(ctx context.Context) {
	ctx, a.stop = context.WithCancel(context.WithoutCancel(ctx))
	for _, stream := range a.streams {
		a.group.Go(func() { a.follow(ctx, stream) })
	}
}

// Stop ends it; the next start goes on where it was.
func (a *Audit) Stop() {
	if a.stop != nil {
		a.stop()
		a.group.Wait()
	}
}

func (a *Audit) follow(ctx context.Context, stream Stream) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	failing := false
	for {
		n, err := a.store.Acts.PassOn(ctx, stream.Name, atOnce, stream.send)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil && !failing:
			slog.Error("pass acts on", logkey.Stream, stream.Name, logkey.Error, err)
			failing = true
		case err == nil && failing && n > 0:
			slog.Info("acts are passed on again", logkey.Stream, stream.Name)
			failing = false
		}
		if n == atOnce {
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}
