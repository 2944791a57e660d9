package question

import (
	"cmp"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Orders are what rows can be sorted by; a dash before one turns it round. The first is the default.
var Orders = []string{"amount", "name", "kind", "owner", "tenant", "host", "peak", "source", "parts"}

// ParseOrder reads a word for an order; "" is the default.
func ParseOrder(word string) (Order, error) {
	by, turned := strings.CutPrefix(word, "-")
	if word != "" && !slices.Contains(Orders, by) {
		return Order{}, fmt.Errorf("cannot sort by %q: choose one of %s, with a dash before it for the other way round",
			word, strings.Join(Orders, ", "))
	}
	return Order{By: cmp.Or(by, Orders[0]), Turned: turned}, nil
}

// IsText tells orders by a word, which go by the alphabet, from those by a number, which go largest first.
func (o Order) IsText() bool {
	return slices.Contains([]string{"name", "kind", "owner", "tenant", "host", "source"}, o.By)
}

// Key is where in a sorted list a row stands. Pages begin after one, so that rows that come or go between two pages
// neither repeat nor skip others.
type Key struct {
	Number float64 `json:"n,omitempty"` // of an order by a number
	Text   string  `json:"t,omitempty"` // of an order by a word
	Units  float64 `json:"u"`           // of the first measure: decides among equals
	Rest   string  `json:"r"`           // what tells the group from all others: decides among equals of both
}

// ErrCursor says that a cursor was not made by this service.
var ErrCursor = errors.New("the cursor is none that this service gave: ask for the first page again")

// String is the key as a cursor: text that means nothing to who gets it.
func (k *Key) String() string {
	if k == nil {
		return ""
	}
	raw, err := json.Marshal(k)
	if err != nil {
		return "" // of numbers and strings this cannot be
	}
	return base64.RawURLEncoding.EncodeToString(raw)
}

// ParseKey reads a cursor; "" is the beginning. ErrCursor for what is none.
func ParseKey(cursor string) (*Key, error) {
	if cursor == "" {
		return nil, nil
	}
	raw, err := base64.RawURLEncoding.DecodeString(cursor)
	if err != nil {
		return nil, ErrCursor
	}
	var k Key
	if err := json.Unmarshal(raw, &k); err != nil {
		return nil, ErrCursor
	}
	return &k, nil
}
