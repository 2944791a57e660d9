package wire

import (
	"bytes"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
	"google.golang.org/protobuf/reflect/protoreflect"
)

// MaxBody bounds a batch after decompression, in bytes: 300 workloads take about 40 kB a minute.
const MaxBody = 32 << 20

// What a batch costs to read is bounded by what was sent, so that a small one cannot take all memory. Batches of
// collectors are compressed to a fifth, and seldom to a thirtieth; their messages within messages take 20 bytes and
// more each, of which an empty one takes two, and 200 once it is read.
const (
	mostExpansion    = 64
	freeBytes        = 64 << 10
	bytesPerMessage  = 8
	freeMessages     = 1000
	mostIntervals    = 2000
	deepestInMessage = 8
)

// decoders are made once, for each holds buffers worth its making, and shared by all.
var decoders = func() chan *zstd.Decoder {
	made := make(chan *zstd.Decoder, 8)
	for range cap(made) {
		d, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true),
			zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			panic(err) // the options are sound
		}
		made <- d
	}
	return made
}()

// decompress undoes zstd, up to so many bytes.
func decompress(body []byte, most int) ([]byte, error) {
	d := <-decoders
	defer func() { decoders <- d }()
	if err := d.Reset(bytes.NewReader(body)); err != nil {
		return nil, fmt.Errorf("the body is not sound zstd: %w", err)
	}
	raw, err := io.ReadAll(io.LimitReader(d, int64(most)+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("the body is not sound zstd: %w", err)
	case len(raw) > most:
		return nil, fmt.Errorf("the body decompresses to more than %d bytes: send fewer intervals at once", most)
	}
	return raw, nil
}

// checkCount holds how many messages a body has within it to how long it is, before they are made.
func checkCount(raw []byte, of proto.Message) error {
	most := freeMessages + len(raw)/bytesPerMessage
	if countMessages(raw, of.ProtoReflect().Descriptor(), deepestInMessage) > most {
		return fmt.Errorf("the body holds more than %d messages, which is too many for its %d bytes", most, len(raw))
	}
	return nil
}

// countMessages counts the messages within one that is encoded as protobuf. What is not sound is left to who decodes
// it.
func countMessages(raw []byte, of protoreflect.MessageDescriptor, deep int) int {
	n := 0
	for len(raw) > 0 && deep > 0 {
		number, kind, size := protowire.ConsumeTag(raw)
		if size < 0 {
			return n
		}
		raw = raw[size:]
		if kind != protowire.BytesType {
			if size = protowire.ConsumeFieldValue(number, kind, raw); size < 0 {
				return n
			}
			raw = raw[size:]
			continue
		}
		value, size := protowire.ConsumeBytes(raw)
		if size < 0 {
			return n
		}
		raw = raw[size:]
		if f := of.Fields().ByNumber(number); f != nil && f.Message() != nil {
			n += 1 + countMessages(value, f.Message(), deep-1)
		}
	}
	return n
}
