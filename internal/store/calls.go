package store

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
)

// mostCall is how long a call may be: PostgreSQL takes 8000 bytes with its end.
const mostCall = 7900

// Call tells something to every instance that listens on this book, this one too. It is told once and kept nowhere.
func (s *Store) Call(ctx context.Context, channel, text string) error {
	if len(text) > mostCall {
		return fmt.Errorf("a call of %d bytes: at most %d", len(text), mostCall)
	}
	return s.db.WithContext(ctx).Exec("SELECT pg_notify($1, $2)", channel, text).Error
}

// Hear visits what is called on some channels until the context ends, over a connection of its own. What is called
// while that is broken is not heard: begun tells each time that all is heard from now on.
func (s *Store) Hear(ctx context.Context, channels []string, begun func(), visit func(channel, text string)) {
	pause := time.Second
	for ctx.Err() == nil {
		err := s.hear(ctx, channels, begun, func(channel, text string) {
			pause = time.Second
			visit(channel, text)
		})
		if ctx.Err() != nil {
			return
		}
		slog.Warn("other instances are not heard; trying again", "in", pause, "error", err)
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, 30*time.Second)
	}
}

func (s *Store) hear(ctx context.Context, channels []string, begun func(), visit func(channel, text string)) error {
	conn, err := pgx.Connect(ctx, s.url)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	for _, c := range channels {
		if _, err := conn.Exec(ctx, "LISTEN "+pgx.Identifier{c}.Sanitize()); err != nil {
			return err
		}
	}
	begun()
	for {
		n, err := conn.WaitForNotification(ctx)
		if err != nil {
			return err
		}
		visit(n.Channel, n.Payload)
	}
}
