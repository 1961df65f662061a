// Package provider is Kambrel's own identity provider, for organizations that have none: people of
// a login domain sign in here (SAML 2.0) with the password of their directory, tried by an agent, or
// with a ticket (Kerberos). It answers only while a domain has it as its provider.
package provider

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"encoding/xml"
	"errors"
	"fmt"
	"log/slog"
	"math/big"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/beevik/etree"
	"github.com/crewjam/saml"
	dsig "github.com/russellhaering/goxmldsig"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	protocol "kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/seal"
	"kambrel.example/kambrel/service/store"
)

const (
	// keyYears is how long a key is for, and renewBefore how long before its end the next one is
	// made; formerFor is how long the one before is still told.
	keyYears    = 2
	renewBefore = 60 * 24 * time.Hour
	formerFor   = 2 * 24 * time.Hour
	// metadataFor is how long what is told of itself is valid.
	metadataFor = 14 * 24 * time.Hour
)

// Path is beneath which people find it.
const Path = "/people"

// Options are what it can be told.
type Options struct {
	URL    string // of the service, by which it is named once it has a key
	Seal   seal.Key
	Keytab string // a file, "" for none
}

// Provider is one. Its methods may be called from many goroutines.
type Provider struct {
	options   Options
	store     *store.Store
	operators *operators.Operators
}

// New makes one.
func New(s *store.Store, o *operators.Operators, options Options) *Provider {
	options.URL = strings.TrimSuffix(options.URL, "/")
	return &Provider{options: options, store: s, operators: o}
}

// signer is a key that is open.
type signer struct {
	key         crypto.Signer
	certificate *x509.Certificate
}

// keys are those that are there: with what is signed now, and the certificates that are told.
type keys struct {
	base    string
	current signer
	told    []*x509.Certificate
	next    bool
	since   time.Time // when the current one became so
}

// errOff says that no domain has it as its provider.
var errOff = problem.New(problem.NotFound, "this service signs nobody in to the cloud.")

func (p *Provider) keys(ctx context.Context) (keys, error) {
	rows, err := p.store.OwnProvider.Keys(ctx)
	if err != nil {
		return keys{}, err
	}
	var out keys
	for _, row := range rows {
		certificate, err := x509.ParseCertificate(row.Certificate)
		if err != nil {
			return keys{}, err
		}
		out.told = append(out.told, certificate)
		out.next = out.next || row.State == store.OwnNext
		if row.State != store.OwnCurrent {
			continue
		}
		opened, err := p.options.Seal.Unseal(row.Key)
		if err != nil {
			return keys{}, fmt.Errorf("open the key by which people's sign-ins are signed: %w", err)
		}
		block, _ := pem.Decode([]byte(opened.Reveal()))
		if block == nil {
			return keys{}, problem.New(problem.BadInput, "the key by which people's sign-ins are signed is damaged.")
		}
		key, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		if err != nil {
			return keys{}, fmt.Errorf("read the key by which people's sign-ins are signed: %w", err)
		}
		private, ok := key.(crypto.Signer)
		if !ok {
			return keys{}, problem.New(problem.BadInput, "the key by which people's sign-ins are signed cannot sign.")
		}
		out.base, out.current, out.since = row.Base, signer{private, certificate}, row.Changed
	}
	if out.base == "" {
		return keys{}, errOff
	}
	return out, nil
}

// makeKey adds a key of a state.
func (p *Provider) makeKey(ctx context.Context, tx *store.Store, state, base string) error {
	key, err := rsa.GenerateKey(rand.Reader, 3072)
	if err != nil {
		return err
	}
	number, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	now := time.Now()
	template := &x509.Certificate{SerialNumber: number, Subject: pkix.Name{CommonName: "Kambrel sign-in " + now.UTC().Format("2006-01-02")}, NotBefore: now.Add(-time.Hour), NotAfter: now.AddDate(keyYears, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature}
	der, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	sealed, err := p.options.Seal.Seal(secret.Text(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})))
	if err != nil {
		return fmt.Errorf("seal the key by which people's sign-ins are signed: %w", err)
	}
	return tx.OwnProvider.AddKey(ctx, &store.OwnKey{State: state, Base: base, Certificate: der, Key: sealed, Until: template.NotAfter})
}

// Ready makes the first key where there is none.
func (p *Provider) Ready(ctx context.Context, tx *store.Store) error {
	rows, err := tx.OwnProvider.Keys(ctx)
	if err != nil || len(rows) > 0 {
		return err
	}
	if u, err := url.Parse(p.options.URL); err != nil || u.Host == "" {
		return problem.New(problem.BadInput, "the service does not know its own URL, by which people and the cloud would find it: start it with --url.")
	}
	return p.makeKey(ctx, tx, store.OwnCurrent, p.options.URL+Path)
}

// Renew makes the next key, which is told before anything is signed by it.
func (p *Provider) Renew(ctx context.Context, tx *store.Store) error {
	have, err := p.keys(ctx)
	if err != nil {
		return err
	}
	if have.next {
		return problem.New(problem.BadInput, "the next key is there already; it is used as soon as the cloud has its certificate.")
	}
	return p.makeKey(ctx, tx, store.OwnNext, have.base)
}

// Turn goes on with the keys as it is due: a next one is made in time, used once the cloud has it,
// and the one before is told a while longer. It tells whether anything of that has changed.
func (p *Provider) Turn(ctx context.Context, cloudHas bool) (bool, error) {
	have, err := p.keys(ctx)
	if errors.Is(err, errOff) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	switch {
	case have.next && cloudHas:
		return true, p.store.Tx(ctx, func(tx *store.Store) error { return tx.OwnProvider.Promote(ctx) })
	case !have.next && time.Until(have.current.certificate.NotAfter) < renewBefore:
		return true, p.store.Tx(ctx, func(tx *store.Store) error { return p.makeKey(ctx, tx, store.OwnNext, have.base) })
	}
	dropped, err := p.store.OwnProvider.DropFormer(ctx, time.Now().Add(-formerFor))
	return dropped > 0, err
}

// identityProvider is the library's view of it.
func (p *Provider) identityProvider(have keys) *saml.IdentityProvider {
	at := func(path string) url.URL {
		u, _ := url.Parse(have.base + path)
		return *u
	}
	valid := metadataFor
	return &saml.IdentityProvider{
		Logger: slog.NewLogLogger(slog.Default().Handler(), slog.LevelWarn), Signer: have.current.key, Certificate: have.current.certificate, MetadataURL: at("/metadata"), SSOURL: at("/sign-in"), LogoutURL: at("/sign-out"),
		ServiceProviderProvider: p, SignatureMethod: dsig.RSASHA256SignatureMethod, ValidDuration: &valid, NameIDFormats: []saml.NameIDFormat{saml.PersistentNameIDFormat},
		RejectSHA1Signatures: true, StrictACSBinding: true, LogoutBindings: []string{saml.HTTPRedirectBinding}, ExtraCertificates: others(have),
	}
}

func others(have keys) []*x509.Certificate {
	return slices.DeleteFunc(slices.Clone(have.told), func(c *x509.Certificate) bool { return c.Equal(have.current.certificate) })
}

// Metadata is its own, signed by its current key.
func (p *Provider) Metadata(ctx context.Context) (text, fingerprint string, err error) {
	have, err := p.keys(ctx)
	if err != nil {
		return "", "", err
	}
	idp := p.identityProvider(have)
	metadata := idp.Metadata()
	// A time of whole days keeps it the same from one look to the next.
	metadata.ValidUntil, metadata.ID = time.Now().Add(metadataFor).UTC().Truncate(24*time.Hour), "kambrel-"+time.Now().UTC().Format("20060102")
	for i := range metadata.IDPSSODescriptors {
		metadata.IDPSSODescriptors[i].ValidUntil = nil
	}
	raw, err := xml.Marshal(metadata)
	if err != nil {
		return "", "", err
	}
	document := etree.NewDocument()
	if err := document.ReadFromBytes(raw); err != nil {
		return "", "", err
	}
	signing, err := dsig.NewSigningContext(have.current.key, [][]byte{have.current.certificate.Raw})
	if err != nil {
		return "", "", err
	}
	signing.IdAttribute = "ID"
	signing.Canonicalizer = dsig.MakeC14N10ExclusiveCanonicalizerWithPrefixList("")
	if err := signing.SetSignatureMethod(dsig.RSASHA256SignatureMethod); err != nil {
		return "", "", err
	}
	signature, err := signing.ConstructSignature(document.Root(), true)
	if err != nil {
		return "", "", err
	}
	document.Root().InsertChildAt(0, signature)
	text, err = document.WriteToString()
	return xml.Header + text, protocol.Fingerprint(have.current.certificate), err
}

// domains are those that it is for.
func (p *Provider) domains(ctx context.Context) ([]store.Federation, error) {
	all, err := p.store.Federations.List(ctx)
	return slices.DeleteFunc(all, func(one store.Federation) bool { return !one.Own }), err
}
