package exchange

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"time"

	"morvant/internal/manifest"
	"morvant/internal/process"
	"morvant/internal/progress"
)

// Archives of others are unpacked in a process of their own (process.Contained): whatever they make a library do, it ends
// that process, and takes no more memory than Memory. The process is asked by a line of JSON, and answers in frames: a
// byte for the kind, the length of the rest (4 bytes, little-endian), the rest.
const (
	frameFile    = 'f' // a fileFrame; its content follows
	frameContent = 'c'
	frameEnd     = 'e' // of the content of a file
	frameLink    = 'l' // a manifest.Link
	frameLost    = 'o' // a manifest.Link that is left out
	frameDir     = 'd' // the path
	frameSame    = 's' // paths: of the file, and of the one before that it is like
	framePrivate = 'p'
	frameMeter   = 'm' // how many bytes have been read (8), and of what
	frameDone    = '.'
	frameError   = '!' // an errorFrame
)

// Memory bounds what unpacking an archive may take, in bytes: the largest dictionary, and room for the reader.
const Memory = maxDictionary + 192<<20

const (
	// frameSize is how much content a frame has; none has more than maxFrame.
	frameSize = 64 << 10
	maxFrame  = 1 << 20
	// silence is how long unpacking may go on without anything to show for it.
	silence = time.Minute
)

type asked struct {
	Source, Inside, Password string
}

type fileFrame struct {
	Path      string
	Attribute manifest.Attribute
}

type errorFrame struct {
	Text string
	Kind string // of kinds; empty: any other
}

type errorKind struct {
	name string
	is   error
}

// kinds are the errors that are recognised on the other side, the gravest first.
var kinds = []errorKind{{"hostile", ErrHostile}, {"locked zip", errLockedZip}, {"password", ErrPassword}, {"parts", ErrParts}, {"format", ErrFormat}, {"cut", ErrCut}}

// told is an error of the process that unpacks.
type told struct {
	text string
	of   error
}

func (e *told) Error() string { return e.text }
func (e *told) Unwrap() error { return e.of }

// frames is the taker of the process that unpacks: it writes frames.
type frames struct {
	out  *bufio.Writer
	head [5]byte
	buf  []byte
}

func (f *frames) write(kind byte, b []byte) error {
	f.head[0] = kind
	binary.LittleEndian.PutUint32(f.head[1:], uint32(len(b)))
	if _, err := f.out.Write(f.head[:]); err != nil {
		return err
	}
	_, err := f.out.Write(b)
	return err
}

func (f *frames) writeJSON(kind byte, v any) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return f.write(kind, b)
}

func (f *frames) file(p string, in io.Reader, a manifest.Attribute) error {
	if err := f.writeJSON(frameFile, fileFrame{p, a}); err != nil {
		return err
	}
	for {
		n, err := in.Read(f.buf)
		if n > 0 {
			if err := f.write(frameContent, f.buf[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return f.write(frameEnd, nil)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", p, cut(err))
		}
	}
}

func (f *frames) link(l manifest.Link) error { return f.writeJSON(frameLink, l) }
func (f *frames) lost(l manifest.Link) error { return f.writeJSON(frameLost, l) }
func (f *frames) dir(p string) error         { return f.write(frameDir, []byte(p)) }
func (f *frames) same(p, from string) error  { return f.writeJSON(frameSame, []string{p, from}) }
func (f *frames) private() error             { return f.write(framePrivate, nil) }

// The meter of the process that unpacks.
type framed struct {
	progress.None
	*frames
}

func (f framed) Advance(n int64, of string) {
	_ = f.write(frameMeter, append(binary.LittleEndian.AppendUint64(nil, uint64(n)), of...)) // an error comes again
}

// Unpack is the work of a contained process.
func Unpack(ask io.Reader, out io.Writer) error {
	line, err := bufio.NewReader(ask).ReadBytes('\n')
	if err != nil {
		return err
	}
	var q asked
	if err := json.Unmarshal(line, &q); err != nil {
		return err
	}
	f := &frames{out: bufio.NewWriterSize(out, frameSize+5), buf: make([]byte, frameSize)}
	r := &reading{Import: &Import{Inside: q.Inside, Meter: framed{frames: f}}, ctx: context.Background(), to: f}
	if err = r.file(q.Source, q.Password); err == nil {
		err = f.write(frameDone, nil)
	} else {
		e := errorFrame{Text: err.Error()}
		if i := slices.IndexFunc(kinds, func(k errorKind) bool { return errors.Is(err, k.is) }); i >= 0 {
			e.Kind = kinds[i].name
		}
		err = f.writeJSON(frameError, e)
	}
	return errors.Join(err, f.out.Flush())
}

// contained unpacks an archive in a process of its own.
func (i *Import) contained(ctx context.Context, src, password string, to *into) error {
	full, err := filepath.Abs(src)
	if err != nil {
		return err
	}
	ask, err := json.Marshal(asked{full, i.Inside, password})
	if err != nil {
		return err
	}
	err = process.Contained(ctx, i.Self, silence, append(ask, '\n'), func(in io.Reader) error {
		return (&unframing{in: bufio.NewReaderSize(in, 2*frameSize), meter: i.Meter}).run(to)
	})
	if errors.Is(err, process.ErrBroken) {
		return fmt.Errorf("%s: %w", src, process.ErrBroken)
	}
	return err
}

// unframing reads frames.
type unframing struct {
	in    *bufio.Reader
	meter progress.Meter
	rest  []byte // of content that has come
	room  []byte
}

// next reads a frame that is not for the meter.
func (u *unframing) next() (kind byte, b []byte, err error) {
	for {
		var head [5]byte
		if _, err := io.ReadFull(u.in, head[:]); err != nil {
			return 0, nil, process.ErrBroken
		}
		n := binary.LittleEndian.Uint32(head[1:])
		if n > maxFrame {
			return 0, nil, process.ErrBroken
		}
		if int(n) > len(u.room) {
			u.room = make([]byte, n)
		}
		b := u.room[:n]
		if _, err := io.ReadFull(u.in, b); err != nil {
			return 0, nil, process.ErrBroken
		}
		switch {
		case head[0] == frameMeter && n >= 8:
			u.meter.Advance(int64(binary.LittleEndian.Uint64(b)), string(b[8:]))
		case head[0] == frameError:
			var e errorFrame
			if err := json.Unmarshal(b, &e); err != nil {
				return 0, nil, process.ErrBroken
			}
			said := &told{text: e.Text}
			for _, k := range kinds {
				if k.name == e.Kind {
					said.of = k.is
				}
			}
			return 0, nil, said
		default:
			return head[0], b, nil
		}
	}
}

func (u *unframing) run(to taker) error {
	for {
		kind, b, err := u.next()
		if err != nil {
			return err
		}
		decode := func(v any) {
			if json.NewDecoder(bytes.NewReader(b)).Decode(v) != nil {
				err = process.ErrBroken
			}
		}
		switch kind {
		case frameDone:
			return nil
		case frameFile:
			var f fileFrame
			if decode(&f); err == nil {
				err = to.file(f.Path, u, f.Attribute)
			}
		case frameLink:
			var l manifest.Link
			if decode(&l); err == nil {
				err = to.link(l)
			}
		case frameLost:
			var l manifest.Link
			if decode(&l); err == nil {
				err = to.lost(l)
			}
		case frameSame:
			var s [2]string
			if decode(&s); err == nil {
				err = to.same(s[0], s[1])
			}
		case frameDir:
			err = to.dir(string(b))
		case framePrivate:
			err = to.private()
		default:
			err = process.ErrBroken
		}
		if err != nil {
			return err
		}
	}
}

// Read reads the content of a file.
func (u *unframing) Read(b []byte) (int, error) {
	for len(u.rest) == 0 {
		kind, content, err := u.next()
		switch {
		case err != nil:
			return 0, err
		case kind == frameEnd:
			return 0, io.EOF
		case kind != frameContent:
			return 0, process.ErrBroken
		}
		u.rest = content
	}
	n := copy(b, u.rest)
	u.rest = u.rest[n:]
	return n, nil
}
