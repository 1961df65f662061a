package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"time"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/orders"
)

// next waits for an order, while taking goes on, and answers it.
func (a *Agent) next(ctx, taking context.Context, service string, lane orders.Lane) error {
	response, err := a.to(taking, service, http.MethodGet, "/api/v1/agent/order?lane="+string(lane), nil)
	if err != nil {
		return fmt.Errorf("ask for an order: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNoContent {
		return nil
	}
	var order orders.Order
	if err := json.NewDecoder(response.Body).Decode(&order); err != nil {
		return fmt.Errorf("read an order: %w", err)
	}
	slog.Info("order", logkey.Order, order.ID, logkey.Kind, order.Kind(), logkey.Directory, order.Directory)
	return a.answer(ctx, service, order)
}

// answer streams what the directory gives to the service as it comes.
func (a *Agent) answer(ctx context.Context, service string, order orders.Order) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	reader, writer := io.Pipe()
	produced := make(chan error, 1)
	go func() {
		err := a.produce(ctx, order, writer)
		_ = writer.CloseWithError(err)
		produced <- err
	}()
	response, err := a.to(ctx, service, http.MethodPost, fmt.Sprintf("/api/v1/agent/orders/%d/answer", order.ID), reader)
	_ = reader.CloseWithError(errors.New("the service has ended the order"))
	cancel()
	if readErr := <-produced; err == nil && readErr != nil && !errors.Is(readErr, context.Canceled) {
		err = readErr
	}
	if err != nil {
		if problem.CodeOf(err) == problem.OrderLost {
			slog.Warn("the order went to another agent", logkey.Order, order.ID)
			return nil
		}
		return fmt.Errorf("answer order %d: %w", order.ID, err)
	}
	return response.Body.Close()
}

// produce writes the lines of an answer. What the directory refuses becomes
// the last line; an error is returned only when the service cannot be told.
func (a *Agent) produce(ctx context.Context, order orders.Order, to io.Writer) error {
	lines := newLineWriter(to, time.Duration(order.LeaseSeconds)*time.Second/3)
	defer lines.stop()
	done, err := a.carryOut(ctx, order, lines)
	if err == nil {
		return lines.last(orders.Line{Done: &done})
	}
	if lines.broken() != nil {
		return lines.broken()
	}
	var p *problem.Error
	if !errors.As(err, &p) {
		p = problem.Wrap(problem.DirectoryRefused, err, "carry the order out")
	}
	slog.Warn("order failed", logkey.Order, order.ID, logkey.Code, p.Code, logkey.Detail, p.Detail)
	return lines.last(orders.Line{Failed: &orders.Failure{Code: string(p.Code), Detail: p.Detail}})
}

// work is one order on its way: how to reach its directory, and where the lines of
// its answer go.
type work struct {
	order      orders.Order
	connection directory.Connection
	lines      *lineWriter
	own        Directory // as the agent's configuration has it
	agent      *Agent
}

// handlers carry out the orders of each kind; each is in a file of its own.
var handlers = map[orders.Kind]func(context.Context, work) (orders.Done, error){
	orders.KindRead:   read,
	orders.KindFetch:  fetch,
	orders.KindProbe:  probe,
	orders.KindRepair: repair,
	orders.KindSearch: search,

	orders.KindPassword: setPassword,
	orders.KindDigest:   digest,
	orders.KindGroups:   groups,
	orders.KindSignIn:   signIn,
}

// carryOut does what an order asks for.
func (a *Agent) carryOut(ctx context.Context, order orders.Order, lines *lineWriter) (orders.Done, error) {
	handle, known := handlers[order.Kind()]
	if !known {
		return orders.Done{}, problem.New(problem.AgentMessageMalformed, "this agent (%s) does not know what order %d asks for: it is older than the service", a.version, order.ID)
	}
	config, err := a.now()
	if err != nil {
		return orders.Done{}, err
	}
	at := slices.IndexFunc(config.Directories, func(d Directory) bool { return d.Name == order.Directory })
	if at < 0 {
		return orders.Done{}, problem.New(problem.DirectoryNotServed, "the agent's configuration names no directory %s", order.Directory)
	}
	own := config.Directories[at]
	return handle(ctx, work{order, own.connection(), lines, own, a})
}

// item writes what was read as a line; a directory may also say nothing, as with an
// empty set of those that are present (RFC 4533 section 2.5).
func (w work) item(item directory.Item) error {
	if item.Entry == nil && item.Gone == nil && len(item.Present) == 0 && !item.Restart && item.Hidden == "" {
		return nil
	}
	return w.lines.write(orders.Line{Entry: item.Entry, Gone: item.Gone, Present: item.Present, Restart: item.Restart, Hidden: item.Hidden})
}
