package passwords

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/protocol/events"
)

// listener is the one that holds the stream.
type listener struct {
	*Passwords
	stream *cloud.EventStream
	keys   keyring

	unaccepted bool // the cloud does not seal for all keys that it has

	mu   sync.Mutex
	busy map[string]bool // tokens that are being dealt with
	work sync.WaitGroup
}

// errSwitchedOff ends the listening when the settings ask for it.
var errSwitchedOff = errors.New("no directory takes passwords any more")

// hold finds the stream and deals with what comes, until ctx ends or something fails.
func (p *Passwords) hold(ctx context.Context, well func()) error {
	document, _ := p.settings(ctx)
	stream, err := p.cloud.FindEvents(ctx, document.Passwords.Events)
	if err != nil {
		return err
	}
	l := &listener{Passwords: p, stream: stream, busy: map[string]bool{}}
	if err := l.keys.read(ctx, stream); err != nil {
		return err
	}
	if err := p.store.Passwords.Opened(ctx, p.name, stream.Transmitter.Issuer, stream.Delivery.EndpointURL); err != nil {
		return err
	}
	slog.Info("listening to the cloud's events", logkey.URL, stream.Delivery.EndpointURL)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	// What a service that was killed has left behind is answered first.
	if err := l.resume(ctx); err != nil {
		return err
	}
	var beside sync.WaitGroup
	beside.Go(func() { l.publish(ctx, cancel) })
	err = l.poll(ctx, well)
	cancel(err)
	beside.Wait()
	l.work.Wait()
	if errors.Is(context.Cause(ctx), errSwitchedOff) {
		return nil
	}
	return err
}

// poll asks for tokens without end, and deals with each beside the next poll.
func (l *listener) poll(ctx context.Context, well func()) error {
	for ctx.Err() == nil {
		polled, err := l.stream.Poll(ctx)
		if err != nil {
			return err
		}
		well()
		if err := l.store.Passwords.Polled(ctx); err != nil {
			return err
		}
		for id, text := range polled.Sets {
			l.mu.Lock()
			known := l.busy[id]
			l.busy[id] = true
			l.mu.Unlock()
			if known {
				continue
			}
			l.work.Go(func() {
				defer func() {
					l.mu.Lock()
					delete(l.busy, id)
					l.mu.Unlock()
				}()
				l.take(ctx, id, text)
			})
		}
	}
	return ctx.Err()
}

// answerAttempts is how often it is tried to tell the cloud what became of a token.
const answerAttempts = 3

// answer tells the cloud what became of a token; nil for one that was done.
func (l *listener) answer(ctx context.Context, id string, failed *events.SetFailed) {
	var err error
	for range answerAttempts {
		if err = l.stream.Answer(ctx, id, failed); err == nil || ctx.Err() != nil {
			return
		}
		_ = rest.For(ctx, 100*time.Millisecond)
	}
	// The cloud sends the token again, and is told again then.
	slog.Warn("tell the cloud what became of an event", logkey.Event, id, logkey.Error, err)
}

func (p *Passwords) broken(ctx context.Context, err error) {
	slog.Warn("the stream of events is not open", logkey.Error, err)
	why := err.Error()
	var known *problem.Error
	if errors.As(err, &known) {
		why = known.Detail
	}
	if err := p.store.Passwords.Broken(ctx, why); err != nil && ctx.Err() == nil {
		slog.Error("keep how the stream stands", logkey.Error, err)
	}
}

// close notes once that nobody listens.
func (p *Passwords) close(ctx context.Context) {
	stream, err := p.store.Passwords.Stream(ctx)
	if err == nil && (stream.Service != "" || stream.Failing != nil) {
		err = p.store.Passwords.Closed(ctx)
	}
	if err != nil && ctx.Err() == nil {
		slog.Error("keep how the stream stands", logkey.Error, err)
	}
}
