package act

import (
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"strings"
	"time"
)

// Errand is what a host is to do for an act.
type Errand string

// The errands.
const (
	ToPreview Errand = "preview"
	ToCarry   Errand = "carry out"
	ToRecall  Errand = "recall" // tell what came of it, and do nothing
)

// Order is what a service has a host do. It is signed, for one request of one host: see Sign.
type Order struct {
	ID       string            `json:"id"` // of the act
	Host     string            `json:"host"`
	Errand   Errand            `json:"errand"`
	Request  Request           `json:"request"`
	Identity string            `json:"identity,omitempty"` // to carry out: that of the preview that was confirmed
	Whose    map[string]string `json:"whose"`              // tenants by key, of the workloads that may be touched
	Nonce    string            `json:"nonce"`              // of the host's request that this answers
	Lives    time.Duration     `json:"lives"`              // from when it is given out
}

// Signed is an order as it travels.
type Signed struct {
	Order     []byte `json:"order"`
	Signature []byte `json:"signature"`
}

// signedAs keeps a signature of an order from being one of anything else.
const signedAs = "vinescale order 1\n"

// Sign signs an order.
func Sign(key ed25519.PrivateKey, o *Order) (Signed, error) {
	b, err := json.Marshal(o)
	return Signed{b, ed25519.Sign(key, append([]byte(signedAs), b...))}, err
}

// Errors of an order that is not to be followed.
var (
	ErrForged = errors.New("the order is not signed by the service that this host was enrolled at")
	ErrOther  = errors.New("the order is for another host")
	ErrStale  = errors.New("the order does not answer this host's request: it was given out before, or for another")
)

// Open checks an order and reads it. Nonce is that of the host's own request, to which the order must be an answer: so
// an order that was given out once is worth nothing later, whatever the clocks say.
func Open(key ed25519.PublicKey, s *Signed, host, nonce string) (*Order, error) {
	if len(key) != ed25519.PublicKeySize ||
		!ed25519.Verify(key, append([]byte(signedAs), s.Order...), s.Signature) {
		return nil, ErrForged
	}
	var o Order
	if err := json.Unmarshal(s.Order, &o); err != nil {
		return nil, err
	}
	switch {
	case o.Host != host:
		return nil, ErrOther
	case nonce == "" || o.Nonce != nonce:
		return nil, ErrStale
	}
	return &o, nil
}

// A credential is a token and, after a dot, the key by which the host knows its service's orders.
const credentialMark = "."

// Credential joins a token with the key of the service that gives it out.
func Credential(token string, key ed25519.PublicKey) string {
	return token + credentialMark + base64.RawURLEncoding.EncodeToString(key)
}

// ParseCredential takes a credential apart. The key is nil in one from before there were orders: its host takes none.
func ParseCredential(credential string) (token string, key ed25519.PublicKey, err error) {
	token, text, is := strings.Cut(credential, credentialMark)
	if !is {
		return token, nil, nil
	}
	b, err := base64.RawURLEncoding.DecodeString(text)
	if err != nil || len(b) != ed25519.PublicKeySize {
		return token, nil, errors.New("the credential is cut short or changed: copy the whole of it")
	}
	return token, b, nil
}
