package hub

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"maps"
	"regexp"
	"slices"
	"strings"

	"vinescale/core/act"
	"vinescale/internal/store"
)

// NewToken is 256 random bits with a prefix that makes a leaked one easy to find.
func NewToken() string {
	b := make([]byte, 32)
	rand.Read(b) // never fails, by its documentation
	return "vs_" + hex.EncodeToString(b)
}

// Roles of tokens.
const (
	Administrator = "administrator" // may read, change, and act everywhere
	Operator      = "operator"      // may read, and act within a scope
	Reader        = "reader"        // may read
	Collector     = "collector"     // may write one host's intervals
)

// SetToken makes a token valid under a name, in place of the one of that name.
func (h *Hub) SetToken(ctx context.Context, name, role, token string) error {
	if role != Administrator && role != Reader {
		return problem(Invalid, "role %q: choose administrator or reader", role)
	}
	return h.store.PutToken(ctx, name, role, token)
}

// TheAdministrator is the name of the token that the service makes at its first start and keeps in a file.
const TheAdministrator = "administrator"

// AddToken makes a token for a person or a program and returns it; it is not shown again. A scope is an operator's.
func (h *Hub) AddToken(ctx context.Context, name, role string, scope act.Scope) (token string, err error) {
	if !hostName.MatchString(name) {
		return "", problem(Invalid, "token name %q: use letters, digits, dots, dashes and underscores", name)
	}
	if role != Administrator && role != Operator && role != Reader {
		return "", problem(Invalid, "role %q: choose administrator, operator or reader", role)
	}
	if err := h.soundScope(ctx, role, &scope); err != nil {
		return "", err
	}
	token = NewToken()
	err = h.store.AddToken(ctx, name, role, scope, token)
	if errors.Is(err, store.ErrExists) {
		return "", problem(
			Conflict,
			"there is a token of the name %q already: remove it first, or choose another name",
			name,
		)
	}
	return token, err
}

// soundScope checks in which scope an operator may act: its tenants and pools must be there, and there must be some.
func (h *Hub) soundScope(ctx context.Context, role string, scope *act.Scope) error {
	if role != Operator {
		if !scope.IsEverywhere() {
			return problem(
				Invalid,
				"tenants and pools bound where an operator may act: a token of role %s has none",
				role,
			)
		}
		return nil
	}
	if scope.IsEverywhere() {
		return problem(Invalid, "an operator acts for some tenants, or in some pools: name at least one")
	}
	for _, t := range scope.Tenants {
		if t == Unassigned {
			continue
		}
		if _, err := h.Tenant(ctx, t); err != nil {
			return err
		}
	}
	pools, err := h.store.Pools(ctx)
	if err != nil {
		return err
	}
	for _, p := range scope.Pools {
		if !slices.ContainsFunc(slices.Collect(maps.Values(pools)), func(of []string) bool {
			return slices.Contains(of, p)
		}) {
			return problem(NotFound, "no host is in a pool %q: vinescale hosts pool puts hosts in pools", p)
		}
	}
	return nil
}

// Tokens lists all tokens, without what would let anyone in.
func (h *Hub) Tokens(ctx context.Context) ([]store.Token, error) { return h.store.Tokens(ctx) }

// RemoveToken makes a person's token void.
func (h *Hub) RemoveToken(ctx context.Context, name string) error {
	if name == TheAdministrator {
		return problem(Invalid, "the first administrator's token stays: the service keeps it in its data directory")
	}
	err := h.store.RemoveToken(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return problem(NotFound, "there is no token of the name %q: vinescale token list lists them", name)
	}
	return err
}

// SignIn tells what a token allows.
func (h *Hub) SignIn(ctx context.Context, token string) (store.Token, error) {
	if token == "" {
		return store.Token{},
			problem(NoToken,
				"no token was given: send it as \"Authorization: Bearer TOKEN\", or sign in to the console")
	}
	t, err := h.store.TokenOf(ctx, token)
	if errors.Is(err, store.ErrNotFound) {
		// A credential as it was given out: with the key of the service, which only the collector needs.
		if bare, key, failed := act.ParseCredential(token); failed == nil && key != nil {
			t, err = h.store.TokenOf(ctx, bare)
		}
	}
	if errors.Is(err, store.ErrNotFound) {
		return t,
			problem(NoToken,
				"the token is not known here: it may have been replaced; ask the administrator for a new one")
	}
	return t, err
}

var hostName = regexp.MustCompile(`^[A-Za-z0-9]([A-Za-z0-9._-]{0,251}[A-Za-z0-9])?$`)

// Enrol makes a host known and returns the new credential of its collector, with the key by which that knows the orders
// of this service. An earlier one is no longer taken.
func (h *Hub) Enrol(ctx context.Context, name string) (credential string, err error) {
	if !hostName.MatchString(name) {
		return "", problem(Invalid, "host name %q: use letters, digits, dots, dashes and underscores, at most 253",
			name)
	}
	key, err := h.store.OrderKey(ctx)
	if err != nil {
		return "", err
	}
	token := NewToken()
	public, _ := key.Public().(ed25519.PublicKey)
	return act.Credential(token, public), h.store.Enrol(ctx, name, token)
}

// Host finds a host by name.
func (h *Hub) Host(ctx context.Context, name string) (store.Host, error) {
	host, err := h.store.HostByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return host, problem(NotFound, "there is no host %q: vinescale hosts lists them", name)
	}
	return host, err
}

// Hosts lists all hosts.
func (h *Hub) Hosts(ctx context.Context) ([]store.Host, error) { return h.store.Hosts(ctx) }

// HostByID finds the host a credential is for.
func (h *Hub) HostByID(ctx context.Context, id int32) (store.Host, error) {
	host, err := h.store.HostByID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return host, problem(NotFound, "the credential's host is no longer enrolled")
	}
	return host, err
}

// Tenants lists all tenants.
func (h *Hub) Tenants(ctx context.Context) ([]store.Tenant, error) { return h.store.Tenants(ctx) }

// tenantNames gives tenants' names by number.
func (h *Hub) tenantNames(ctx context.Context) (map[int32]string, error) {
	tenants, err := h.store.Tenants(ctx)
	names := map[int32]string{0: Unassigned}
	for _, t := range tenants {
		names[t.ID] = t.Name
	}
	return names, err
}

// named is a tenant's name; one that was removed is unassigned.
func named(names map[int32]string, id int32) string {
	if n, ok := names[id]; ok {
		return n
	}
	return Unassigned
}

// Tenant finds a tenant by name.
func (h *Hub) Tenant(ctx context.Context, name string) (store.Tenant, error) {
	t, err := h.store.TenantByName(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return t, problem(NotFound, "there is no tenant %q: vinescale tenant list lists them", name)
	}
	return t, err
}

// AddTenant makes a tenant.
func (h *Hub) AddTenant(ctx context.Context, name string) (store.Tenant, error) {
	clean := strings.TrimSpace(name)
	if err := soundTenant(clean); err != nil {
		return store.Tenant{}, err
	}
	t, err := h.store.AddTenant(ctx, clean)
	if errors.Is(err, store.ErrExists) {
		return t, problem(Conflict, "there is a tenant %q already", clean)
	}
	h.forgetRules()
	return t, err
}

// RemoveTenant removes a tenant, its rules, quotas and pins, and returns how many workloads moved.
func (h *Hub) RemoveTenant(ctx context.Context, name string) (moved int, err error) {
	if _, err := h.Tenant(ctx, name); err != nil {
		return 0, err
	}
	if err := h.store.RemoveTenant(ctx, name); err != nil {
		return 0, err
	}
	return h.reassign(ctx)
}
