package crowd

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"vinescale/core/leaf"
	"vinescale/core/question"
	"vinescale/internal/pack"
)

// Repeat puts the sums of one hour in the place of each hour and day of a span of whole days, of every host of a book:
// as if the same workloads had been at the same in it, a little more in one hour and a little less in another. The
// hosts' own lines stay as they are.
func Repeat(ctx context.Context, databaseURL string, hour time.Time, span question.Span) error {
	conn, err := pgx.Connect(ctx, databaseURL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	rows, err := conn.Query(ctx, `SELECT host_id, body FROM hour_leaves WHERE start = $1
		UNION ALL SELECT host_id, body FROM day_quires WHERE start = $2`, hour, question.ByDay.Floor(hour))
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
		for _, first := range leaf.Split(l) {
			if question.ByHour.Floor(first.Start(0)).Equal(hour) {
				group.Go(func() error { return repeat(ctx, databaseURL, first, hour, span) })
			}
		}
	}
	return group.Wait()
}

func repeat(ctx context.Context, databaseURL string, first *leaf.Leaf, begin time.Time, span question.Span) error {
	conn, err := pgx.Connect(ctx, databaseURL)
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	put := func(table string, at time.Time, l *leaf.Leaf) error {
		columns, more := []string{"host_id", "start", "section", "body"}, []any{}
		if table == "day_quires" {
			columns, more = append(columns, "hours"), append(more, l.Hours())
		}
		var rows [][]any
		for _, section := range leaf.SectionsOf(leaf.Tables()...) {
			if l.Has(section) {
				rows = append(rows, append([]any{l.Host, at, section, pack.Encode(l, section)}, more...))
			}
		}
		_, err := conn.CopyFrom(ctx, pgx.Identifier{table}, columns, pgx.CopyFromRows(rows))
		return err
	}
	const day = 24 * time.Hour
	if _, err := conn.Exec(ctx, "DELETE FROM hour_leaves WHERE host_id = $1 AND start = $2", first.Host,
		begin); err != nil {
		return err
	}
	for at := span.From; at.Before(span.To); at = at.Add(day) {
		var hours []*leaf.Leaf
		for hour := at; hour.Before(at.Add(day)); hour = hour.Add(time.Hour) {
			l := later(first, hour.Sub(begin))
			vary(l, uint64(hour.Unix()))
			hours = append(hours, l)
		}
		bound := leaf.Join(hours...)
		if err := put("day_quires", at, bound); err != nil {
			return err
		}
		if err := put("day_leaves", at, leaf.Fold(bound)); err != nil {
			return err
		}
	}
	_, err = conn.Exec(ctx, "DELETE FROM due_days WHERE host_id = $1", first.Host)
	return err
}

// times are the columns that hold a time.
var times = []string{"start", "end", "from", "to", leaf.NewestAt}

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

// lengths are columns that say for how long or how often something was told.
var lengths = []string{"elapsed", "count", "over"}

// vary makes what was counted another by up to three tenths, by workload or part and by a seed: nothing in a book of
// real hosts is the same in every hour, and what is the same takes no time to unpack.
func vary(l *leaf.Leaf, seed uint64) {
	for name, t := range l.Tables {
		if name == leaf.Intervals || name == leaf.Who {
			continue
		}
		for i, c := range t.Schema.Columns {
			isFigure := c.Combine == leaf.Sum || c.Combine == leaf.Most && strings.HasSuffix(c.Name, "peak")
			if !isFigure || c.Word || t.High[i] != nil || slices.Contains(lengths, c.Name) {
				continue
			}
			for row, v := range t.Low[i] {
				x := (seed + uint64(t.Low[0][row]+1)*0x9e3779b97f4a7c15) * 0xbf58476d1ce4e5b9
				thousandths := int64(700 + (x>>32)%600)
				t.Low[i][row] = v/1000*thousandths + v%1000*thousandths/1000 // so that it does not overflow
			}
		}
	}
}
