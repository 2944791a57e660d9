package api

import (
	"context"
	"encoding/json"
	"fmt"
	"unicode/utf16"

	"vinescale/core/question"
)

// MissedHeader is where a listing, whose body is its rows alone, says what its figures lack.
const MissedHeader = "X-Missed"

// Missed is what the figures of a listing lack.
type Missed struct {
	Missed string `header:"X-Missed" doc:"What figures lack, as JSON: uncovered and caveats, as in a ledger."`
}

// missed is what figures of a span lack, of one host or of all (""), in ASCII as headers must be.
func (s *service) missed(ctx context.Context, span question.Span, host string) (Missed, error) {
	m, err := s.hub.Missed(ctx, span, host)
	if err != nil || m.Nothing() {
		return Missed{}, err
	}
	text, err := json.Marshal(m)
	var ascii []byte
	for _, r := range string(text) {
		switch {
		case r < 0x80:
			ascii = append(ascii, byte(r))
		case r > 0xFFFF:
			high, low := utf16.EncodeRune(r)
			ascii = fmt.Appendf(ascii, `\u%04x\u%04x`, high, low)
		default:
			ascii = fmt.Appendf(ascii, `\u%04x`, r)
		}
	}
	return Missed{string(ascii)}, err
}
