package settings

import (
	"cmp"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"
)

// Notices say who is told of what. The mail server is the service's, and no setting.
type Notices struct {
	Recipients []Recipient `json:"recipients,omitempty" yaml:"recipients,omitempty"`
	// Digest is the time of the day at which the digest goes out, as in 07:00, or "off".
	Digest string `json:"digest,omitempty" yaml:"digest,omitempty"`
	// Webhook is a URL to which the same goes as JSON, signed.
	Webhook string `json:"webhook,omitempty" yaml:"webhook,omitempty"`
}

// Recipient is somebody who is told.
type Recipient struct {
	To string `json:"to" yaml:"to"`
	// Of is what they are told of; none is failures and the digest.
	Of []NoticeKind `json:"of,omitempty" yaml:"of,omitempty"`
}

// NoticeKind is what a notice is about.
type NoticeKind string

// What people are told of.
const (
	NoticeFailures NoticeKind = "failures" // what keeps everything from being in step, and when it is well again
	NoticeDigest   NoticeKind = "digest"   // once a day, all that is open
	NoticeWeekly   NoticeKind = "weekly-report"
	NoticeMonthly  NoticeKind = "monthly-report"
)

// NoticeKinds are all there are.
var NoticeKinds = []NoticeKind{NoticeFailures, NoticeDigest, NoticeWeekly, NoticeMonthly}

// DigestTime is when the digest goes out, unless the settings say otherwise.
const DigestTime = "07:00"

// Wants tells whether somebody is told of a kind.
func (r Recipient) Wants(kind NoticeKind) bool {
	if len(r.Of) == 0 {
		return kind == NoticeFailures || kind == NoticeDigest
	}
	return slices.Contains(r.Of, kind)
}

// To lists the addresses that are told of a kind.
func (n Notices) To(kind NoticeKind) []string {
	var addresses []string
	for _, r := range n.Recipients {
		if r.Wants(kind) {
			addresses = append(addresses, r.To)
		}
	}
	return addresses
}

// DigestAt is when the digest of the day of a time goes out; false when none does. The
// document must be valid.
func (n Notices) DigestAt(day time.Time) (time.Time, bool) {
	return clock(day, cmp.Or(n.Digest, DigestTime))
}

func (v *validation) notices(n Notices) {
	seen := map[string]bool{}
	for i, r := range n.Recipients {
		path := fmt.Sprintf("notices.recipients[%d]", i)
		address, err := mail.ParseAddress(r.To)
		switch {
		case err != nil || address.Address != r.To:
			v.add(path+".to", "%q is no mail address; write it as in name@halvard.example", r.To)
		case seen[strings.ToLower(r.To)]:
			v.add(path+".to", "%s stands twice", r.To)
		}
		seen[strings.ToLower(r.To)] = true
		for _, kind := range r.Of {
			if !slices.Contains(NoticeKinds, kind) {
				v.add(path+".of", "%q is nothing that people are told of: failures, digest, weekly-report, monthly-report", kind)
			}
		}
	}
	if n.Digest != "" && n.Digest != "off" {
		if _, err := time.Parse("15:04", n.Digest); err != nil {
			v.add("notices.digest", "%q is no time of the day; write it as in 07:00, or off", n.Digest)
		}
	}
	if n.Webhook != "" {
		if u, err := url.Parse(n.Webhook); err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil {
			v.add("notices.webhook", "%q is no URL; write it as in https://hooks.halvard.example/kambrel, without name or password", n.Webhook)
		}
	}
}
