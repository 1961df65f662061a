package agent

import (
	"bufio"
	"encoding/json"
	"errors"
	"io"
	"time"

	"kambrel.example/kambrel/protocol/orders"
)

// lineWriter writes NDJSON lines from one goroutine and, when nothing was
// written for a while, lines that keep the lease.
type lineWriter struct {
	buffer *bufio.Writer
	encode *json.Encoder
	lock   chan struct{} // held while writing; a channel, since the pipe may block
	failed error
	done   chan struct{}
}

func newLineWriter(to io.Writer, every time.Duration) *lineWriter {
	buffer := bufio.NewWriterSize(to, 64<<10)
	l := &lineWriter{buffer: buffer, encode: json.NewEncoder(buffer), lock: make(chan struct{}, 1), done: make(chan struct{})}
	if every > 0 {
		go l.keepAlive(every)
	}
	return l
}

func (l *lineWriter) keepAlive(every time.Duration) {
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	for {
		select {
		case <-l.done:
			return
		case <-ticker.C:
			l.lock <- struct{}{}
			if l.failed == nil {
				l.failed = errors.Join(l.encode.Encode(orders.Line{Alive: true}), l.buffer.Flush())
			}
			<-l.lock
		}
	}
}

func (l *lineWriter) write(line orders.Line) error {
	l.lock <- struct{}{}
	defer func() { <-l.lock }()
	if l.failed == nil {
		l.failed = l.encode.Encode(line)
	}
	return l.failed
}

func (l *lineWriter) last(line orders.Line) error {
	if err := l.write(line); err != nil {
		return err
	}
	l.lock <- struct{}{}
	defer func() { <-l.lock }()
	l.failed = l.buffer.Flush()
	return l.failed
}

func (l *lineWriter) broken() error {
	l.lock <- struct{}{}
	defer func() { <-l.lock }()
	return l.failed
}

func (l *lineWriter) stop() { close(l.done) }
