package feed

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"

	"morvant/internal/feed/secret"
)

// RefusedError is a service's answer to a sign-in that it does not accept, in the
// codes of OAuth 2.0 (RFC 6749, 5.2) and two for one-time codes.
type RefusedError struct {
	Code string // "invalid_grant", "otp_required", "otp_expired", ...
	What string // from the service, for people
}

func (e *RefusedError) Error() string {
	switch e.Code {
	case CodeRequired:
		return "a one-time code is needed"
	case CodeExpired:
		return "the one-time code has expired"
	case "invalid_grant":
		return "the name, the password, the code or the key is wrong"
	}
	if e.What != "" {
		return "the service refused: " + e.What
	}
	return "the service refused: " + printable(e.Code)
}

// Codes of a RefusedError that lead to another question.
const (
	CodeRequired = "otp_required"
	CodeExpired  = "otp_expired"
)

// Credentials are what a person signs in with. They are sent and forgotten.
type Credentials struct {
	User, Password string
	Code           string // one-time code; empty unless the service asks for one
}

// token is what a service gives in exchange.
type token struct {
	Access  string    `json:"access_token"`
	Refresh string    `json:"refresh_token,omitempty"`
	Expires time.Time `json:"expires,omitzero"`
	// Address gave the token, and is the only one that may renew it.
	Address string `json:"address"`
	User    string `json:"user,omitempty"`
}

func loadToken(k secret.One) (*token, error) {
	b, err := k.Load()
	if err != nil || b == nil {
		return nil, err
	}
	t := &token{}
	if err := json.Unmarshal(b, t); err != nil {
		return nil, fmt.Errorf("the saved sign-in cannot be read; sign in again: %w", ErrSignIn)
	}
	return t, nil
}

// saveToken keeps the token and returns where, for people.
func saveToken(k secret.One, t *token) (string, error) {
	b, err := json.Marshal(t)
	if err != nil {
		return "", err
	}
	return k.Save(b)
}

// tokens shows and renews the token of one feed.
type tokens struct {
	keep  secret.One
	wire  *Wire
	hosts map[string]bool // servers that may see the token
	now   func() time.Time

	mu      sync.Mutex
	token   *token
	renewed string // access token that the last renewal replaced
}

// early is how long before its end a token is renewed.
const early = 30 * time.Second

// fits reports whether the server at u may see the token.
func (t *tokens) fits(u *url.URL) bool { return t.hosts[u.Host] && secure(u) }

// current returns the access token; rejected says that the last one was refused.
// A token that cannot be renewed is given up: asking goes on without one, and the
// service's answer tells what is missing.
func (t *tokens) current(ctx context.Context, rejected bool) (string, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.token == nil {
		return "", nil
	}
	stale := !t.token.Expires.IsZero() && t.now().Add(early).After(t.token.Expires)
	if !stale && !(rejected && t.renewed != t.token.Access) {
		return t.token.Access, nil
	}
	if t.token.Refresh == "" {
		return "", nil
	}
	fresh, err := t.wire.Grant(ctx, t.token.Address, "", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {t.token.Refresh}}, t.now())
	var refused *RefusedError
	if errors.As(err, &refused) {
		t.token = nil
		return "", t.keep.Forget()
	}
	if err != nil {
		return "", err
	}
	if fresh.Refresh == "" {
		fresh.Refresh = t.token.Refresh
	}
	fresh.User = t.token.User
	t.token, t.renewed = fresh, fresh.Access
	_, err = saveToken(t.keep, fresh)
	return fresh.Access, err
}

// maxValid bounds how long a token is taken to hold, in seconds: a year, after which it is
// asked for again. What a service says may be more than a clock can count.
const maxValid = 365 * 24 * 60 * 60

// maxGrant bounds the answer of a token address, in bytes.
const maxGrant = 64 << 10

// Grant posts a form to a token address and returns the token it gives.
func (w *Wire) Grant(ctx context.Context, address, bearer string, form url.Values, now time.Time) (*token, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" || u.User != nil {
		return nil, fmt.Errorf("%w: the feed's address for signing in", ErrAddress)
	}
	if !secure(u) {
		return nil, fmt.Errorf("%s: %w", u.Host, ErrInsecure)
	}
	header := http.Header{}
	if bearer != "" {
		header.Set("Authorization", "Bearer "+bearer)
	}
	resp, done, err := w.do(ctx, http.MethodPost, u, header, form)
	if err != nil {
		return nil, err
	}
	defer done()
	b, err := io.ReadAll(io.LimitReader(resp.Body, maxGrant))
	if err != nil {
		return nil, err
	}
	if resp.StatusCode != http.StatusOK {
		var refusal struct {
			Error string `json:"error"`
			What  string `json:"error_description"`
		}
		if json.Unmarshal(b, &refusal) == nil && refusal.Error != "" {
			return nil, &RefusedError{refusal.Error, printable(refusal.What)}
		}
		return nil, failure(resp, u.Path)
	}
	var given struct {
		Access  string `json:"access_token"`
		Refresh string `json:"refresh_token"`
		Seconds int64  `json:"expires_in"`
	}
	// The answer itself must not get into an error.
	if json.Unmarshal(b, &given) != nil || given.Access == "" {
		return nil, fmt.Errorf("%s: %w: no token in the answer", u.Host, ErrHostile)
	}
	t := &token{Access: given.Access, Refresh: given.Refresh, Address: address}
	if given.Seconds > 0 {
		t.Expires = now.Add(time.Duration(min(given.Seconds, maxValid)) * time.Second)
	}
	return t, nil
}

// channelGrant is the grant type that posts a channel's key.
const channelGrant = "urn:morvant:channel-key"
