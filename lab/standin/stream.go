package standin

import (
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/gofiber/fiber/v2"
	"github.com/google/uuid"

	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/protocol/events"
)

const (
	// life is how long after it was made what an event asks may be begun.
	life = 8 * time.Second
	// patience is how long an answer is waited for.
	patience = 10 * time.Second
	// openPoll is how long a poll is held open.
	openPoll = 25 * time.Second
	// again is after how long a token that nobody answered for is sent again.
	again = 2 * time.Second
	// streamID is that of the one stream.
	streamID = "kambrel"
	// audience is for whom the tokens are.
	audience = "urn:kambrel:service"
)

// stream is the tokens that wait for an answer.
type stream struct {
	mu      sync.Mutex
	waiting map[string]*waiting
	changed chan struct{} // closed and made anew when a token comes or a poll begins
	polls   int           // how many polls there were: the last one alone is answered
}

// waiting is one token.
type waiting struct {
	token  string
	until  time.Time
	sent   time.Time
	answer chan events.SetFailed
}

func newStream() *stream {
	return &stream{waiting: map[string]*waiting{}, changed: make(chan struct{})}
}

// wake must be called with the lock held.
func (q *stream) wake() {
	close(q.changed)
	q.changed = make(chan struct{})
}

// sign makes a token of claims.
func (s *Server) sign(claims events.Token) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: s.signing}, (&jose.SignerOptions{}).WithType(events.TokenType))
	if err != nil {
		return "", err
	}
	text, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// tell signs a token, puts it into the stream and waits for the answer.
func (s *Server) tell(claims events.Token) (events.SetFailed, error) {
	token, err := s.sign(claims)
	if err != nil {
		return events.SetFailed{}, err
	}
	return s.send(claims.ID, token), nil
}

// slipIn puts any text into the stream, as somebody might who had got at it, and tells what
// was answered.
func (s *Server) slipIn(c *fiber.Ctx) error {
	var asked struct{ ID, Token string }
	if json.Unmarshal(c.Body(), &asked) != nil {
		return refuse(c, invalidSyntax("give id and token"))
	}
	return c.JSON(s.send(asked.ID, asked.Token))
}

func (s *Server) send(id, token string) events.SetFailed {
	one := &waiting{token: token, until: time.Now().Add(patience), answer: make(chan events.SetFailed, 1)}
	q := s.stream
	q.mu.Lock()
	q.waiting[id] = one
	q.wake()
	q.mu.Unlock()
	defer func() {
		q.mu.Lock()
		delete(q.waiting, id)
		q.mu.Unlock()
	}()
	select {
	case answer := <-one.answer:
		return answer
	case <-time.After(patience):
		q.mu.Lock()
		defer q.mu.Unlock()
		reason := password.Nobody
		if !one.sent.IsZero() {
			reason = password.Unknown // somebody had it
		}
		return events.SetFailed{Code: string(reason), Description: password.ForPerson(reason, 0)}
	}
}

// streamRoutes are those of the shared signals framework.
func (s *Server) streamRoutes() {
	s.app.Get("/.well-known/ssf-configuration", func(c *fiber.Ctx) error {
		return c.JSON(events.Transmitter{SpecificationVersion: "1_0", Issuer: s.issuer(), KeysURI: s.issuer() + "/.well-known/jwks.json", DeliveryMethods: []string{events.Delivery},
			ConfigurationURI: s.issuer() + "/events/stream", VerificationURI: s.issuer() + "/events/verify"})
	})
	s.app.Get("/.well-known/jwks.json", s.keySet)
	closed := s.app.Group("/events", s.authorize)
	shown := func(c *fiber.Ctx) error {
		one := events.Stream{ID: streamID, Issuer: s.issuer(), Audience: events.Audience{audience}, Delivered: slices.Sorted(maps.Keys(events.Acts))}
		one.Delivery.Method, one.Delivery.EndpointURL = events.Delivery, s.issuer()+"/events/poll"
		return c.JSON(one)
	}
	closed.Get("/stream", shown)
	closed.Post("/stream", shown)
	closed.Post("/verify", s.verify)
	closed.Post("/poll", s.poll)
}

func (s *Server) verify(c *fiber.Ctx) error {
	var asked events.Verify
	if json.Unmarshal(c.Body(), &asked) != nil || asked.StreamID != streamID {
		return refuse(c, invalidSyntax("the body names no stream"))
	}
	text, err := json.Marshal(map[string]string{"state": asked.State})
	if err != nil {
		return err
	}
	token := events.Token{Issuer: s.issuer(), Audience: events.Audience{audience}, ID: uuid.NewString(), IssuedAt: time.Now().Add(s.options.Clock).Unix(), Events: map[string]json.RawMessage{events.Verification: text}}
	go func() { _, _ = s.tell(token) }()
	return c.SendStatus(fiber.StatusNoContent)
}

// poll hands out the tokens that wait, and takes the answers (RFC 8936 section 2.4).
func (s *Server) poll(c *fiber.Ctx) error {
	var asked events.Poll
	if err := json.Unmarshal(c.Body(), &asked); err != nil {
		return refuse(c, invalidSyntax("the body is no poll: %s", err))
	}
	q := s.stream
	q.mu.Lock()
	for _, id := range asked.Ack {
		q.answer(id, events.SetFailed{})
	}
	for id, failed := range asked.SetErrs {
		q.answer(id, failed)
	}
	most := -1
	if asked.MaxEvents != nil {
		most = *asked.MaxEvents
	}
	if most == 0 {
		q.mu.Unlock()
		return c.JSON(events.Polled{Sets: map[string]string{}})
	}
	q.polls++
	mine := q.polls
	q.wake()
	q.mu.Unlock()
	until := time.Now().Add(openPoll)
	for {
		q.mu.Lock()
		due, more := q.due(most)
		changed, superseded := q.changed, q.polls != mine
		if superseded {
			due = map[string]string{}
		}
		for id := range due {
			q.waiting[id].sent = time.Now()
		}
		q.mu.Unlock()
		if len(due) > 0 || superseded || asked.ReturnImmediately || time.Now().After(until) {
			return c.JSON(events.Polled{Sets: due, MoreAvailable: more})
		}
		select {
		case <-changed:
		case <-s.closing:
			return errors.New("the service ends")
		case <-time.After(again / 4):
		}
	}
}

func (q *stream) due(most int) (map[string]string, bool) {
	out := map[string]string{}
	for id, one := range q.waiting {
		if time.Since(one.sent) < again || time.Now().After(one.until) {
			continue
		}
		if len(out) == most {
			return out, true
		}
		out[id] = one.token
	}
	return out, false
}

func (q *stream) answer(id string, failed events.SetFailed) {
	if one := q.waiting[id]; one != nil {
		select {
		case one.answer <- failed:
		default: // it was answered
		}
	}
}
