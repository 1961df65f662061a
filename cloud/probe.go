package cloud

import (
	"crypto/tls"
	"errors"
	"net"
	"net/http"
	"syscall"
)

// failedStep says which step a failed request failed at, and what to do.
func failedStep(err error) Step {
	var (
		name        *net.DNSError
		certificate *tls.CertificateVerificationError
		refusal     *Refusal
	)
	switch {
	case errors.As(err, &name):
		return Step{"name", "bad", "the name " + name.Name + " is not known here", "Correct --cloud-url of the service, or the name service of its host."}
	case errors.Is(err, syscall.ECONNREFUSED):
		return Step{"connect", "bad", err.Error(), "Correct the port in --cloud-url, or start the cloud's service."}
	case errors.As(err, &certificate):
		return Step{"tls", "bad", err.Error(), "Renew the cloud's certificate, or give the host the CA that issued it."}
	case errors.As(err, &refusal) && (refusal.Status == http.StatusUnauthorized || refusal.Status == http.StatusForbidden):
		return Step{"token", "bad", refusal.Error(), "Give a valid one: 'kambrel cloud connect', or in the file of --cloud-token-file, which is taken up at once."}
	case errors.As(err, &refusal) && refusal.Status == http.StatusNotFound:
		return Step{"discovery", "bad", refusal.Error(), "There is no SCIM service at this path: correct --cloud-url (it often ends in /scim/v2)."}
	case errors.As(err, &refusal):
		return Step{"discovery", "bad", refusal.Error(), "Look at the cloud's own state."}
	}
	return Step{"connect", "bad", err.Error(), "Check the network between the service and the cloud."}
}
