package store

import (
	"context"
	"fmt"
	"sync"
	"time"

	"vinescale/core/leaf"
)

// usersFor is for how long it is believed whose the workloads of a host are: so late a frame may follow a changed rule.
const usersFor = 30 * time.Second

// frameUsers remembers whose the workloads in frames are, so that a frame asks nothing of the database as a rule.
type frameUsers struct {
	mu    sync.Mutex
	hosts map[int32]usersOfHost
}

// usersOfHost is the workloads of a host's newest frame by their keys, as they were read from the book at a time.
type usersOfHost struct {
	read  time.Time
	rules int64 // the version in force then
	byKey map[string]leaf.User
}

// UsersOf tells which workloads and tenants stand behind the keys of a frame. Unknown lists the places of those that
// are not in the book yet. What was read by other rules than those of a version is read anew.
func (s *Store) UsersOf(
	ctx context.Context,
	host int32,
	keys []string,
	rulesVersion int64,
) (users []leaf.User, unknown []int, err error) {
	s.users.mu.Lock()
	of := s.users.hosts[host]
	s.users.mu.Unlock()
	isFresh := time.Since(of.read) < usersFor && of.rules == rulesVersion
	for _, key := range keys {
		if _, there := of.byKey[key]; !there {
			isFresh = false
			break
		}
	}
	if !isFresh {
		if of, err = s.readUsers(ctx, host, keys, rulesVersion); err != nil {
			return nil, nil, err
		}
	}
	users = make([]leaf.User, len(keys))
	for i, key := range keys {
		u, there := of.byKey[key]
		if !there {
			unknown = append(unknown, i)
		}
		users[i] = u
	}
	return users, unknown, nil
}

func (s *Store) readUsers(ctx context.Context, host int32, keys []string, rulesVersion int64) (usersOfHost, error) {
	var rows []struct {
		Key      string
		ID       int64
		TenantID int32
	}
	of := usersOfHost{time.Now(), rulesVersion, make(map[string]leaf.User, len(keys))}
	err := s.db.WithContext(ctx).
		Raw(`SELECT key, id, tenant_id FROM workloads WHERE host_id = $1 AND key = ANY($2)`,
			host, keys).
		Scan(&rows).
		Error
	if err != nil {
		return of, fmt.Errorf("whose the workloads of a frame are: %w", err)
	}
	for i := range rows {
		of.byKey[rows[i].Key] = leaf.User{Workload: rows[i].ID, Tenant: rows[i].TenantID}
	}
	s.users.mu.Lock()
	defer s.users.mu.Unlock()
	s.users.hosts[host] = of
	return of, nil
}
