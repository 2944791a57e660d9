package crowd

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/pack"
)

// Repeat puts the sums of one hour in the place of each hour and day of a span, of every host of a book: as if nothing
// had changed in it.
func Repeat(ctx context.Context, databaseURL string, hour time.Time, span question.Span) error {
	conn, err := pgx.Connect(ctx, databaseURL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, "SELECT host_id, body FROM hour_leaves WHERE start = $1 ORDER BY host_id", hour)
	if err != nil {
		return err
	}
	byHost := map[int32]*leaf.Leaf{}
	var host int32
	var body []byte
	if _, err := pgx.ForEachRow(rows, []any{&host, &body}, func() error {
		if byHost[host] == nil {
			byHost[host] = leaf.New(host)
		}
		return pack.Decode(body, byHost[host], nil)
	}); err != nil {
		return err
	}
	if len(byHost) == 0 {
		return fmt.Errorf("no host has a sum of the hour of %s", hour.Format(time.RFC3339))
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for _, l := range byHost {
		group.Go(func() error { return repeat(ctx, databaseURL, l, hour, span) })
	}
	return group.Wait()
}

func repeat(ctx context.Context, databaseURL string, first *leaf.Leaf, begin time.Time, span question.Span) error {
	conn, err := pgx.Connect(ctx, databaseURL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	put := func(table string, rows [][]any) error {
		_, err := conn.CopyFrom(ctx, pgx.Identifier{table}, []string{"host_id", "start", "section", "body"},
			pgx.CopyFromRows(rows))
		return err
	}
	timeless := map[string][]byte{} // sections that are the same in every hour
	sections := leaf.SectionsOf(leaf.Tables()...)
	packed := func(at time.Time, l *leaf.Leaf, known map[string][]byte) (rows [][]any) {
		for _, section := range sections {
			if !l.Has(section) {
				continue
			}
			body := known[section]
			if body == nil {
				body = pack.Encode(l, section)
				if known != nil && !tellsTime(section) {
					known[section] = body
				}
			}
			rows = append(rows, []any{l.Host, at, section, body})
		}
		return rows
	}
	const day = 24 * time.Hour
	if _, err := conn.Exec(ctx, "DELETE FROM hour_leaves WHERE host_id = $1 AND start = $2", first.Host,
		begin); err != nil {
		return err
	}
	for at := span.From; at.Before(span.To); at = at.Add(day) {
		var rows [][]any
		var hours []*leaf.Leaf
		for hour := at; hour.Before(at.Add(day)); hour = hour.Add(time.Hour) {
			l := later(first, hour.Sub(begin))
			hours = append(hours, l)
			rows = append(rows, packed(hour, l, timeless)...)
		}
		if err := put("hour_leaves", rows); err != nil {
			return err
		}
		if err := put("day_leaves", packed(at, leaf.Fold(leaf.Join(hours...)), nil)); err != nil {
			return err
		}
	}
	_, err = conn.Exec(ctx, "DELETE FROM due_days WHERE host_id = $1", first.Host)
	return err
}

// times are the columns that hold a time.
var times = []string{"start", "end", "from", "to", leaf.NewestAt}

func tellsTime(section string) bool {
	for _, name := range leaf.Tables() {
		s := leaf.SchemaOf(name)
		for _, column := range times {
			if s.Section == section && s.Index(column) >= 0 {
				return true
			}
		}
	}
	return false
}

// later is a sum of the same as another, so much later.
func later(l *leaf.Leaf, by time.Duration) *leaf.Leaf {
	moved := leaf.Join(l)
	for _, t := range moved.Tables {
		for _, column := range times {
			if i := t.Schema.Index(column); i >= 0 {
				for row := range t.Low[i] {
					t.Low[i][row] += by.Microseconds()
				}
			}
		}
	}
	return moved
}
