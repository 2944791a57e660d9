package statement

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"strconv"
	"time"
)

// sealForm is the first line of what is hashed: the form of the text below it. A change of the form is another number.
const sealForm = "vinescale statement 1"

// Seal numbers a statement, says when it was closed and by whom, and puts its hash to it, which covers all of that, its
// lines, and the hash of the statement with the number before.
func (s *Statement) Seal(number int64, at time.Time, by, follows string) {
	at = at.UTC().Truncate(time.Microsecond) // as the book keeps it
	s.Number, s.ClosedAt, s.ClosedBy, s.Follows = number, &at, by, follows
	s.Hash = s.digest()
}

// Verify tells whether a closed statement is as it was sealed, and follows the one with the number before.
func (s *Statement) Verify(follows string) error {
	switch {
	case s.ClosedAt == nil:
		return fmt.Errorf("statement %d of %s is not closed", s.Number, s.Tenant)
	case s.Hash != s.digest():
		return fmt.Errorf("statement %d of %s for %s was changed since it was closed: its hash does not fit", s.Number,
			s.Tenant, s.Window)
	case s.Follows != follows:
		return fmt.Errorf("statement %d of %s for %s does not follow the one before it: one is missing or was changed",
			s.Number, s.Tenant, s.Window)
	}
	return nil
}

// digest is SHA-256 over the fields of a statement and its lines, each quoted as in Go and followed by a line's end, so
// that no two statements have the same text.
func (s *Statement) digest() string {
	h := sha256.New()
	put(
		h,
		sealForm,
		strconv.FormatInt(s.Number, 10),
		s.Tenant,
		s.Window,
		stamp(s.From),
		stamp(s.To),
		s.Zone,
		s.Currency,
		string(s.Split),
		strconv.FormatBool(s.KeepIdle), s.LabelKey,
		s.Cost.String(),
		stamp(*s.ClosedAt),
		s.ClosedBy,
		s.Follows,
	)
	for i := range s.Lines {
		l := &s.Lines[i]
		price := ""
		if l.Price != nil {
			price = l.Price.String()
		}
		put(h, stamp(l.From), stamp(l.To), string(l.What), l.Resource, l.Host, l.Pools, l.Kind, l.Owner, l.Label,
			l.Units.String(), l.Unit, l.Quantity.String(), price, l.Cost.String(), strconv.Itoa(l.Missing),
			strconv.FormatInt(l.Corrects, 10), l.Reason)
	}
	return hex.EncodeToString(h.Sum(nil))
}

func stamp(at time.Time) string { return at.UTC().Format(time.RFC3339Nano) }

func put(h hash.Hash, fields ...string) {
	for _, f := range fields {
		fmt.Fprintf(h, "%q\t", f)
	}
	fmt.Fprintln(h)
}
