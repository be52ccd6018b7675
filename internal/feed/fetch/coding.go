package fetch

import (
	"bufio"
	"fmt"
	"io"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"

	"morvant/internal/pack"
)

// maxWindow bounds what decoding may take of memory, in bytes.
const maxWindow = 64 << 20

// decoded returns what the bytes of a place stand for. It ends with an error where that is not size bytes.
func decoded(coding string, in io.Reader, size int64) (io.Reader, func(), error) {
	done := func() {}
	var out io.Reader
	var err error
	switch coding {
	case "", "identity":
		out = in
	case "zstd":
		var d *zstd.Decoder
		if d, err = zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxWindow), zstd.WithDecoderLowmem(true)); err == nil {
			out, done = d, d.Close
		}
	case "gzip":
		out, err = gzip.NewReader(in)
	case "deflate":
		out, err = zlib.NewReader(in)
	case "brotli":
		out = brotli.NewReader(in)
	case "xz":
		var x *xz.Reader
		if x, err = xz.NewReader(bufio.NewReader(in), maxWindow); err == nil {
			x.Multistream(false)
			out = x
		}
	default:
		err = fmt.Errorf("the coding \"%s\" is not known", coding)
	}
	if err != nil {
		return nil, done, fmt.Errorf("%w: %v", pack.ErrChecksum, err)
	}
	return &exactly{out, size}, done, nil
}

// exactly reads a number of bytes, and ends with pack.ErrChecksum where there are fewer or more.
type exactly struct {
	r    io.Reader
	left int64
}

func (e *exactly) Read(b []byte) (int, error) {
	if e.left == 0 {
		var one [1]byte
		n, err := io.ReadFull(e.r, one[:])
		if n > 0 {
			return 0, fmt.Errorf("%w: more bytes than were told", pack.ErrChecksum)
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return 0, io.EOF
		}
		return 0, fmt.Errorf("%w: %v", pack.ErrChecksum, err)
	}
	n, err := e.r.Read(b[:min(int64(len(b)), e.left)])
	e.left -= int64(n)
	switch {
	case err == io.EOF && e.left > 0:
		return n, fmt.Errorf("%w: fewer bytes than were told", pack.ErrChecksum)
	case err == io.EOF:
		return n, nil // the next read finds the end
	case err != nil:
		return n, fmt.Errorf("%w: %v", pack.ErrChecksum, err)
	}
	return n, nil
}
