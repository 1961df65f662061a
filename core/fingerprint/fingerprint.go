// Package fingerprint is how people compare certificates and keys.
package fingerprint

import (
	"crypto/sha256"
	"fmt"
	"strings"
)

// Of is the SHA-256 of a certificate (DER) as browsers and openssl write it.
func Of(certificate []byte) string {
	sum := sha256.Sum256(certificate)
	pairs := make([]string, len(sum))
	for i, octet := range sum {
		pairs[i] = fmt.Sprintf("%02X", octet)
	}
	return strings.Join(pairs, ":")
}

// Same compares two of them, whatever stands between their digits and before them.
func Same(one, other string) bool { return bare(one) == bare(other) }

func bare(text string) string {
	if _, digits, found := strings.Cut(text, "="); found { // as openssl prints it
		text = digits
	}
	return strings.ToUpper(strings.NewReplacer(":", "", " ", "", "\n", "").Replace(text))
}
