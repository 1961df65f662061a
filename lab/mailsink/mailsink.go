// Package mailsink is a mail server that keeps what it gets instead of delivering it, and
// shows it by HTTP: a stand-in for the mail of an organization. It offers STARTTLS, and with
// a certificate asks for it.
package mailsink

import (
	"bytes"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"net/mail"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/spf13/cobra"
)

// Message is a mail that came.
type Message struct {
	From    string    `json:"from"`
	To      []string  `json:"to"`
	TLS     bool      `json:"tls"`
	Subject string    `json:"subject"`
	ID      string    `json:"id"`
	Came    time.Time `json:"came"`
	Plain   string    `json:"plain"` // what people read of it
	Text    string    `json:"text"`  // as it came
}

// Sink keeps mail.
type Sink struct {
	file string // one message in JSON a line

	mu       sync.Mutex
	messages []Message
}

// Open makes a sink that keeps its mail in a folder.
func Open(dir string) (*Sink, error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	s := &Sink{file: filepath.Join(dir, "messages.jsonl")}
	file, err := os.Open(s.file)
	if errors.Is(err, os.ErrNotExist) {
		return s, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	for lines := json.NewDecoder(file); ; {
		var m Message
		if err := lines.Decode(&m); errors.Is(err, io.EOF) {
			return s, nil
		} else if err != nil {
			return nil, err
		}
		s.messages = append(s.messages, m)
	}
}

func (s *Sink) keep(m Message) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(s.file, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if _, err := file.Write(append(text, '\n')); err != nil {
		return errors.Join(err, file.Close())
	}
	s.messages = append(s.messages, m)
	return file.Close()
}

// NewSession begins to talk with somebody who brings mail.
func (s *Sink) NewSession(c *smtp.Conn) (smtp.Session, error) {
	_, secured := c.TLSConnectionState()
	return &session{sink: s, message: Message{TLS: secured}}, nil
}

type session struct {
	sink    *Sink
	message Message
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.message.From = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.message.To = append(s.message.To, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m := s.message
	m.Text, m.Came = string(text), time.Now()
	if parsed, err := mail.ReadMessage(bytes.NewReader(text)); err == nil {
		m.Subject, m.ID, m.Plain = parsed.Header.Get("Subject"), parsed.Header.Get("Message-Id"), plain(parsed)
	}
	return s.sink.keep(m)
}

// plain is the plain text of a mail (RFC 2046 section 5.1.4).
func plain(m *mail.Message) string {
	_, parameters, err := mime.ParseMediaType(m.Header.Get("Content-Type"))
	if err != nil || parameters["boundary"] == "" {
		return ""
	}
	for parts := multipart.NewReader(m.Body, parameters["boundary"]); ; {
		part, err := parts.NextPart() // decodes quoted-printable
		if err != nil {
			return ""
		}
		if strings.HasPrefix(part.Header.Get("Content-Type"), "text/plain") {
			text, _ := io.ReadAll(part)
			return strings.ReplaceAll(string(text), "\r\n", "\n")
		}
	}
}

func (s *session) Reset() { s.message = Message{TLS: s.message.TLS} }

func (s *session) Logout() error { return nil }

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><title>Mail</title><body style="font-family:sans-serif;max-width:900px;margin:20px auto">
<h1>Mail</h1>{{range .}}<h2>{{.Subject}}</h2><p>to {{range .To}}{{.}} {{end}}at {{.Came.Format "2006-01-02 15:04:05"}}</p><pre style="white-space:pre-wrap;background:#f5f3ee;padding:10px">{{.Plain}}</pre>{{else}}<p>None came yet.</p>{{end}}</body></html>`))

// ServeHTTP shows the mail: a page, or /messages as JSON, the oldest first.
func (s *Sink) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	messages := append([]Message{}, s.messages...)
	s.mu.Unlock()
	if r.URL.Path == "/messages" {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(messages) // the reader went away
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, messages)
}

// NewCommand builds the command that runs a sink by itself.
func NewCommand() *cobra.Command {
	var listen, show, dir, certificate, key string
	command := &cobra.Command{
		Use: "mail", Short: "A mail server that keeps what it gets, on loopback", Args: cobra.NoArgs,
		Example: "  kambrel-lab mail --listen 127.0.0.1:7625 --show 127.0.0.1:7626 --dir mail --tls-cert mail.pem --tls-key mail.key",
		RunE: func(cmd *cobra.Command, _ []string) error {
			sink, err := Open(dir)
			if err != nil {
				return err
			}
			server := smtp.NewServer(sink)
			server.Domain, server.AllowInsecureAuth, server.MaxMessageBytes = "mail.halvard.example", false, 10<<20
			server.ReadTimeout, server.WriteTimeout = 30*time.Second, 30*time.Second
			if certificate != "" {
				pair, err := tls.LoadX509KeyPair(certificate, key)
				if err != nil {
					return err
				}
				server.TLSConfig = &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12}
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return err
			}
			shown, err := net.Listen("tcp", show)
			if err != nil {
				return errors.Join(err, listener.Close())
			}
			fmt.Fprintf(cmd.OutOrStdout(), "Mail is taken at %s and shown at http://%s/\n", listener.Addr(), shown.Addr())
			pages := &http.Server{Handler: sink, ReadHeaderTimeout: 10 * time.Second}
			ended := make(chan error, 2)
			go func() { ended <- server.Serve(listener) }()
			go func() { ended <- pages.Serve(shown) }()
			select {
			case err = <-ended:
			case <-cmd.Context().Done():
			}
			return errors.Join(err, server.Close(), pages.Close())
		},
	}
	flags := command.Flags()
	flags.StringVar(&listen, "listen", "127.0.0.1:7625", "address and port for mail")
	flags.StringVar(&show, "show", "127.0.0.1:7626", "address and port where it is shown")
	flags.StringVar(&dir, "dir", "mail", "folder for what came")
	flags.StringVar(&certificate, "tls-cert", "", "certificate chain in PEM form; without it mail comes without TLS")
	flags.StringVar(&key, "tls-key", "", "private key in PEM form")
	return command
}
