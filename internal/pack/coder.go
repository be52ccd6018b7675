package pack

import (
	"bytes"
	"fmt"
	"runtime"
	"slices"

	"github.com/klauspost/compress"
	"github.com/klauspost/compress/zstd"

	"morvant/internal/digest"
)

// Coder codes and decodes the bytes of records. It may be used by several
// goroutines at once.
type Coder struct {
	enc *zstd.Encoder
	dec *zstd.Decoder
}

// Effort is how hard a coder tries to make records small.
type Effort = zstd.EncoderLevel

// The efforts.
const (
	Fast  = zstd.SpeedFastest           // for what stays on this computer
	Small = zstd.SpeedBetterCompression // for what is sent to many
)

// NewCoder returns a coder whose working memory stays within a few MiB a processor.
func NewCoder(effort Effort) (*Coder, error) {
	n := runtime.GOMAXPROCS(0)
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(effort), zstd.WithEncoderConcurrency(n),
		zstd.WithWindowSize(1<<20), zstd.WithEncoderCRC(false))
	if err != nil {
		return nil, err
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(n), zstd.WithDecoderMaxMemory(MaxPlain),
		zstd.WithDecoderMaxWindow(MaxPlain), zstd.WithDecoderLowmem(true))
	if err != nil {
		return nil, err
	}
	return &Coder{enc, dec}, nil
}

// Close frees the working memory.
func (c *Coder) Close() {
	c.enc.Close()
	c.dec.Close()
}

// Samples of incompressible data, such as packed archives, decide against zstd
// before it is tried: three short looks instead of the whole.
const (
	sampleSize      = 1 << 10
	incompressible  = 0.1 // compress.Estimate of random bytes stays below 0.09, of text above 0.3
	smallestToGuess = 16 << 10
)

func looksPacked(plain []byte) bool {
	if len(plain) < smallestToGuess {
		return false
	}
	for _, at := range []int{0, len(plain)/2 - sampleSize/2, len(plain) - sampleSize} {
		if compress.Estimate(plain[at:at+sampleSize]) > incompressible {
			return false
		}
	}
	return true
}

// Encode chooses a coding for plain. The stored bytes are plain itself or are
// appended to buf[:0].
func (c *Coder) Encode(plain, buf []byte) (Coding, []byte) {
	if len(plain) < 32 || looksPacked(plain) {
		return Plain, plain
	}
	out := c.enc.EncodeAll(plain, buf[:0])
	// A gain of less than one part in 32 is not worth decoding for.
	if len(out) > len(plain)-len(plain)/32 {
		return Plain, plain
	}
	return Zstd, out
}

// Decode returns the plain bytes of a record, checked against its digest. They
// may share memory with stored or buf.
func (c *Coder) Decode(e Entry, stored, buf []byte) ([]byte, error) {
	plain, err := c.Inflate(e, stored, buf)
	if err == nil && digest.Of(plain) != e.Digest {
		err = fmt.Errorf("record %s: %w", e.Digest.Short(), ErrChecksum)
	}
	if err != nil {
		return nil, err
	}
	return plain, nil
}

// Inflate is Decode without the comparison, for a caller that compares the digest
// of what several records make up.
func (c *Coder) Inflate(e Entry, stored, buf []byte) ([]byte, error) {
	if err := e.Check(); err != nil {
		return nil, err
	}
	if len(stored) != int(e.Stored) {
		return nil, fmt.Errorf("record %s: %w: %d of %d bytes", e.Digest.Short(), ErrFormat, len(stored), e.Stored)
	}
	if e.Coding.NeedsBase() {
		return nil, fmt.Errorf("record %s: %w: its base is needed", e.Digest.Short(), ErrFormat)
	}
	plain := stored
	if e.Coding == Zstd {
		buf = slices.Grow(buf[:0], int(e.Plain))
		var err error
		// The capacity bounds the output: a frame that inflates further than
		// its record says is cut off by the decoder's own limit.
		if plain, err = c.dec.DecodeAll(stored, buf[:0:e.Plain]); err != nil {
			return nil, fmt.Errorf("record %s: %w: %v", e.Digest.Short(), ErrChecksum, err)
		}
	}
	if len(plain) != int(e.Plain) {
		return nil, fmt.Errorf("record %s: %w", e.Digest.Short(), ErrChecksum)
	}
	return plain, nil
}

// Frames do not number their base, so that every zstd program decodes them (zstd -D BASE); those of earlier versions
// call it numbered.
const (
	unnumbered = 0
	numbered   = 1
)

// basedWindow lets a frame reach back over a whole chunk into its base.
const basedWindow = 1 << 20

// EncodeAgainst codes plain against a base, for content that is much like it. It
// returns the stored bytes of a record of coding Based.
func EncodeAgainst(plain []byte, base digest.Digest, baseBytes []byte) ([]byte, error) {
	// The fastest level: against a base that is much alike, harder work gains
	// little and takes five times as long.
	enc, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithEncoderConcurrency(1), zstd.WithEncoderCRC(false),
		zstd.WithWindowSize(basedWindow), zstd.WithLowerEncoderMem(true), zstd.WithEncoderDictRaw(unnumbered, baseBytes))
	if err != nil {
		return nil, err
	}
	defer enc.Close()
	return enc.EncodeAll(plain, bytes.Clone(base[:])), nil
}

// BaseOf returns which base the stored bytes of a record of coding Based need.
func BaseOf(stored []byte) (digest.Digest, error) {
	if len(stored) < digest.Size {
		return digest.Digest{}, fmt.Errorf("%w: no room for a base", ErrFormat)
	}
	return digest.Digest(stored[:digest.Size]), nil
}

// DecodeAgainst returns the plain bytes of a record of coding Based, checked against
// its digest.
func DecodeAgainst(e Entry, stored, baseBytes []byte) ([]byte, error) {
	if err := e.Check(); err != nil {
		return nil, err
	}
	if !e.Coding.NeedsBase() || len(stored) != int(e.Stored) || len(baseBytes) > MaxPlain {
		return nil, fmt.Errorf("record %s: %w: not coded against a base", e.Digest.Short(), ErrFormat)
	}
	dec, err := zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxMemory(MaxPlain),
		zstd.WithDecoderMaxWindow(MaxPlain), zstd.WithDecoderDictRaw(unnumbered, baseBytes), zstd.WithDecoderDictRaw(numbered, baseBytes))
	if err != nil {
		return nil, err
	}
	defer dec.Close()
	plain, err := dec.DecodeAll(stored[digest.Size:], make([]byte, 0, e.Plain))
	if err != nil {
		return nil, fmt.Errorf("record %s: %w: %v", e.Digest.Short(), ErrChecksum, err)
	}
	if len(plain) != int(e.Plain) || digest.Of(plain) != e.Digest {
		return nil, fmt.Errorf("record %s: %w", e.Digest.Short(), ErrChecksum)
	}
	return plain, nil
}
