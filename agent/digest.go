package agent

import (
	"context"
	"crypto/rand"
	"encoding/json"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/directory"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/orders"
)

// saltLength is how long the salt of a digest is, in octets.
const saltLength = 16

// digest tells whose password was set, or makes digests of stored passwords. They leave this
// host sealed for the cloud's key, which is pinned in the agent's configuration.
func digest(ctx context.Context, w work) (orders.Done, error) {
	asked := w.order.Digest
	if len(asked.IDs) == 0 {
		session, err := w.open(ctx)
		if err != nil {
			return orders.Done{}, err
		}
		defer session.Close()
		return orders.Done{}, session.PasswordMarks(ctx, w.order.Dialect, w.order.Base, asked.Since, func(m directory.PasswordMark) error {
			return w.lines.write(orders.Line{Digest: &orders.Digested{ID: m.ID, Mark: m.Mark}})
		})
	}
	encrypter, err := w.agent.cloud().sealer()
	if err != nil {
		return orders.Done{}, err
	}
	if asked.Work.Passes < 1 || asked.Work.Lanes < 1 || asked.Work.Memory < 8 {
		return orders.Done{}, problem.New(problem.AgentMessageMalformed, "the order says too little about the work of digests")
	}
	session, err := w.openStored(ctx)
	if err != nil {
		return orders.Done{}, err
	}
	defer session.Close()
	return orders.Done{}, session.StoredPasswords(w.order.Dialect, w.order.Base, asked.IDs, func(s directory.Stored) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		line := orders.Digested{ID: s.ID, Mark: s.Mark, Fault: s.Fault}
		if s.Fault == "" {
			if line.Sealed, err = sealDigest(encrypter, w.order.Directory, s, asked.Work); err != nil {
				return err
			}
		}
		return w.lines.write(orders.Line{Digest: &line})
	})
}

// openStored connects to where stored passwords can be read.
func (w work) openStored(ctx context.Context) (*directory.Session, error) {
	if w.order.Dialect != entry.AD {
		return w.open(ctx)
	}
	if w.own.LocalSocket == "" {
		return nil, problem.New(problem.RightMissing, "the agent's configuration names no local socket of the domain controller (localSocket), over which alone stored passwords can be read")
	}
	return directory.OpenLocal(w.own.LocalSocket)
}

func sealDigest(encrypter jose.Encrypter, name string, s directory.Stored, work password.Work) (json.RawMessage, error) {
	salt := make([]byte, saltLength)
	_, _ = rand.Read(salt) // never fails
	// To make it takes a while, in which the password may be set anew: what counts is when it
	// was read, so that the cloud keeps the newer one whichever arrives last.
	bound, err := json.Marshal(events.DigestBinding{Directory: name, Entry: s.ID.String(), Made: s.Read.UnixMicro()})
	if err != nil {
		return nil, err
	}
	sealed, err := encrypter.EncryptWithAuthData([]byte(s.Inner.Digest(salt, work)), bound)
	if err != nil {
		return nil, err
	}
	return json.RawMessage(sealed.FullSerialize()), nil
}

// sealer encrypts for the cloud's pinned key.
func (c *Cloud) sealer() (jose.Encrypter, error) {
	if c == nil || c.SealKey == "" {
		return nil, problem.New(problem.RightMissing, "the agent's configuration has no key of the cloud to seal digests for: run 'kambrel agent trust' on its host")
	}
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(c.SealKey), &key); err != nil {
		return nil, problem.New(problem.BadInput, "the cloud's key for digests cannot be read: run 'kambrel agent trust' again")
	}
	encrypter, err := jose.NewEncrypter(jose.A256GCM, jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: key.Key, KeyID: key.KeyID}, nil)
	return encrypter, err
}
