package adapter

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"sync/atomic"
	"time"

	"morvant/internal/progress"
)

// lines carries messages, one a line. It ends with an error of its own where the other side says what is no
// message, or answers what was not asked.
type lines struct {
	in    *bufio.Reader
	out   io.WriteCloser
	close io.Closer
	watch func(sent bool, line []byte)

	heard    atomic.Int64 // when something was last heard, in nanoseconds since 1970
	messages atomic.Int64 // since the last request

	mu      sync.Mutex
	pending map[string]bool // ids of requests that have no answer
	err     error
	task    string // that is shown
	shown   int64
}

func (l *lines) touch() { l.heard.Store(time.Now().UnixNano()) }

func (l *lines) since() time.Duration { return time.Since(time.Unix(0, l.heard.Load())) }

func (l *lines) failure() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.err
}

// fail remembers the first reason why the talk cannot go on.
func (l *lines) fail(err error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.err == nil {
		l.err = err
	}
	return l.err
}

// explain makes the error that callers get.
func (l *lines) explain(c *Client) error {
	err := l.failure()
	var said *protocolError
	if errors.As(err, &said) {
		return c.wrong("%s", said.what)
	}
	if errors.Is(err, ErrNoAsk) {
		return fmt.Errorf("the adapter %s: %w", c.name, err)
	}
	return fmt.Errorf("the adapter %s: %w: %w", c.name, ErrProtocol, err)
}

type protocolError struct{ what string }

func (e *protocolError) Error() string { return e.what }

// head is what tells messages apart.
type head struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id"`
	Method  string          `json:"method"`
}

func (l *lines) Send(b []byte) error {
	var h head
	if json.Unmarshal(b, &h) == nil && h.Method != "" && h.ID != nil {
		l.mu.Lock()
		l.pending[string(h.ID)] = true
		l.mu.Unlock()
	}
	if l.watch != nil {
		l.watch(true, b)
	}
	_, err := l.out.Write(append(bytes.Clone(b), '\n'))
	return err
}

func (l *lines) Recv() ([]byte, error) {
	if err := l.failure(); err != nil {
		return nil, err
	}
	b, err := l.read()
	if err != nil {
		return nil, err
	}
	l.touch()
	if l.watch != nil {
		l.watch(false, b)
	}
	var h head
	if err := json.Unmarshal(b, &h); err != nil || b[0] != '{' {
		return nil, l.fail(&protocolError{fmt.Sprintf("it says what is no message: %.80s", printable(string(b[:min(len(b), 200)])))})
	}
	if h.Version != "2.0" {
		return nil, l.fail(&protocolError{"a message of its has no \"jsonrpc\": \"2.0\""})
	}
	if l.messages.Add(1) > mostMessages {
		return nil, l.fail(&protocolError{fmt.Sprintf("it has sent more than %d messages and no answer", mostMessages)})
	}
	if h.Method == "" {
		l.mu.Lock()
		asked := l.pending[string(h.ID)]
		delete(l.pending, string(h.ID))
		l.mu.Unlock()
		if !asked {
			return nil, l.fail(&protocolError{fmt.Sprintf("it answers what was not asked, or twice (id %.40s)", printable(string(h.ID)))})
		}
	}
	return b, nil
}

// read reads a line that is not empty.
func (l *lines) read() ([]byte, error) {
	for {
		var line []byte
		for {
			part, err := l.in.ReadSlice('\n')
			if len(line)+len(part) > MaxLine {
				return nil, l.fail(&protocolError{fmt.Sprintf("it sends a line of more than %d MiB", MaxLine>>20)})
			}
			line = append(line, part...)
			if err == nil {
				break
			}
			if !errors.Is(err, bufio.ErrBufferFull) {
				return nil, io.EOF
			}
			l.touch() // a long line is on its way
		}
		if line = bytes.TrimSpace(line); len(line) > 0 {
			return line, nil
		}
		if l.messages.Add(1) > mostMessages {
			return nil, l.fail(&protocolError{"it sends empty lines without end"})
		}
	}
}

// Close ends what is sent.
func (l *lines) Close() error { return l.out.Close() }

// show passes on how far a request is.
func (l *lines) show(m progress.Meter, p Progress) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if text := printable(p.Text); text != l.task {
		total := int64(-1)
		if p.Total > 0 {
			total = p.Total
		}
		m.Begin(text, total)
		l.task, l.shown = text, 0
	}
	if p.Done > l.shown {
		m.Advance(p.Done-l.shown, "")
		l.shown = p.Done
	}
}

// shownOver ends what has been shown.
func (l *lines) shownOver(m progress.Meter) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.task != "" && m != nil {
		m.End()
		l.task = ""
	}
}
