package notices

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"

	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/service/store"
)

// patience is how long the other side may take.
const patience = 20 * time.Second

// Sender is how notices leave the service.
type Sender struct {
	// Server is smtp://host:port, with STARTTLS, or smtps://host:port; nil for none. Mail
	// goes without TLS to loopback alone.
	Server *url.URL
	From   string
	User   string
	// PasswordFile and KeyFile are read each time.
	PasswordFile, KeyFile string
	CAFile                string
}

// NewSender reads how mail goes out; server is "" where none does.
func NewSender(server, from, user, passwordFile, caFile, keyFile string) (Sender, error) {
	s := Sender{From: from, User: user, PasswordFile: passwordFile, CAFile: caFile, KeyFile: keyFile}
	if server == "" {
		return s, nil
	}
	u, err := url.Parse(server)
	if err != nil || u.Scheme != "smtp" && u.Scheme != "smtps" || u.Hostname() == "" || u.User != nil || u.Path != "" {
		return s, fmt.Errorf("--mail-server %q: write smtp://host:port, which must offer STARTTLS, or smtps://host:port, without name or password", server)
	}
	if from == "" {
		return s, errors.New("--mail-server needs --mail-from, the address that mail comes from")
	}
	if (user == "") != (passwordFile == "") {
		return s, errors.New("give --mail-user and --mail-password-file together")
	}
	s.Server = u
	if _, err := s.tls(); err != nil {
		return s, err
	}
	return s, nil
}

// channels are those by which it can send.
func (s Sender) channels() []string {
	if s.Server == nil {
		return []string{store.ByWebhook}
	}
	return []string{store.ByWebhook, store.ByMail}
}

func (s Sender) tls() (*tls.Config, error) {
	config := &tls.Config{ServerName: s.Server.Hostname(), MinVersion: tls.VersionTLS12}
	if s.CAFile == "" {
		return config, nil
	}
	text, err := os.ReadFile(s.CAFile)
	if err != nil {
		return nil, fmt.Errorf("read --mail-ca: %w", err)
	}
	config.RootCAs = x509.NewCertPool()
	if !config.RootCAs.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("--mail-ca %s holds no certificate in PEM form", s.CAFile)
	}
	return config, nil
}

// send sends one notice by its channel.
func (s Sender) send(ctx context.Context, n store.Notice, webhook string) error {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	if n.Channel == store.ByWebhook {
		return s.post(ctx, n, webhook)
	}
	return s.mail(ctx, n)
}

func (s Sender) mail(ctx context.Context, n store.Notice) error {
	m := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := m.From(s.From); err != nil {
		return fmt.Errorf("--mail-from %s: %w", s.From, err)
	}
	if err := m.To(n.Recipients...); err != nil {
		return err
	}
	m.Subject(n.Subject)
	_, domain, _ := strings.Cut(s.From, "@")
	m.SetMessageIDWithValue(fmt.Sprintf("kambrel-%x@%s", sha256.Sum256([]byte(n.Key)), strings.TrimSuffix(domain, ">"))) // the same, should it go out again
	m.SetDateWithValue(n.Created)
	m.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834
	m.SetBodyString(mail.TypeTextPlain, n.Body)
	m.AddAlternativeString(mail.TypeTextHTML, n.HTML)
	config, err := s.tls()
	if err != nil {
		return err
	}
	options := []mail.Option{mail.WithTimeout(patience), mail.WithTLSConfig(config), mail.WithTLSPolicy(mail.TLSMandatory)}
	switch {
	case s.Server.Scheme == "smtps":
		options = append(options, mail.WithSSLPort(false))
	case s.CAFile == "" && loopback(s.Server.Hostname()):
		options = append(options, mail.WithTLSPolicy(mail.TLSOpportunistic))
	}
	if port := s.Server.Port(); port != "" {
		number, err := strconv.Atoi(port)
		if err != nil {
			return err
		}
		options = append(options, mail.WithPort(number))
	}
	if s.User != "" {
		password, err := os.ReadFile(s.PasswordFile)
		if err != nil {
			return fmt.Errorf("read --mail-password-file: %w", err)
		}
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(s.User), mail.WithPassword(strings.TrimSpace(string(password))))
	}
	client, err := mail.NewClient(s.Server.Hostname(), options...)
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, m)
}

func loopback(host string) bool {
	address := net.ParseIP(host)
	return host == "localhost" || address != nil && address.IsLoopback()
}

// post sends a notice to a webhook. Kambrel-Signature is the HMAC (RFC 2104) with SHA-256,
// by the key, of Kambrel-Time, a full stop and the body, in hexadecimal.
func (s Sender) post(ctx context.Context, n store.Notice, webhook string) error {
	if webhook == "" {
		return nil // it was taken out of the settings meanwhile
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, webhook, strings.NewReader(n.Body))
	if err != nil {
		return err
	}
	request.Header.Set("Content-Type", "application/json")
	request.Header.Set("Kambrel-Notice", n.Key)
	now := strconv.FormatInt(time.Now().Unix(), 10)
	request.Header.Set("Kambrel-Time", now)
	if s.KeyFile != "" {
		key, err := os.ReadFile(s.KeyFile)
		if err != nil {
			return fmt.Errorf("read --webhook-key-file: %w", err)
		}
		request.Header.Set("Kambrel-Signature", Sign(secret.Text(bytes.TrimSpace(key)), now, n.Body))
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	response, err := client.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(response.Body, 1<<16))
	if response.StatusCode >= 300 {
		return fmt.Errorf("the webhook answers %s", response.Status)
	}
	return nil
}

// Sign is the signature of a body that was sent at a time, in seconds since 1970.
func Sign(key secret.Text, at, body string) string {
	mac := hmac.New(sha256.New, []byte(key.Reveal()))
	mac.Write([]byte(at + "." + body))
	return hex.EncodeToString(mac.Sum(nil))
}
