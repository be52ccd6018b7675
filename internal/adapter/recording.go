package adapter

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"reflect"
	"sync"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

// A recording is what was exchanged with an adapter, a line for each message: {"to": MESSAGE} for what Morvant
// said, {"from": MESSAGE} for what the adapter did. Secrets are left out: answers of the player, what was kept in the
// keyring, headers, and what stands behind the question mark of an address.

// Recording begins the name of what is no program but a recording that is played back as one.
const Recording = "recording:"

// leftOut stands where a secret was.
const leftOut = "(left out)"

// maxRecording bounds a recording, in bytes.
const maxRecording = 256 << 20

// Recorder writes a recording.
type Recorder struct {
	mu  sync.Mutex
	w   io.Writer
	err error
}

// NewRecorder returns one that writes to w.
func NewRecorder(w io.Writer) *Recorder { return &Recorder{w: w} }

// Watch is for Options.Watch.
func (r *Recorder) Watch(sent bool, line []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var message any
	if err := json.Unmarshal(line, &message); err != nil {
		message = printable(string(line[:min(len(line), 1000)])) // no message: that is what is to be shown
	}
	side := "from"
	if sent {
		side = "to"
	}
	b, err := json.Marshal(map[string]any{side: withoutSecrets(message)})
	if err == nil {
		_, err = r.w.Write(append(b, '\n'))
	}
	if r.err == nil {
		r.err = err
	}
}

// Err returns the first error.
func (r *Recorder) Err() error { return r.err }

// withoutSecrets leaves out what nobody else is to see.
func withoutSecrets(v any) any {
	switch v := v.(type) {
	case []any:
		for i := range v {
			v[i] = withoutSecrets(v[i])
		}
	case map[string]any:
		for key, value := range v {
			switch key {
			case "answer", "value":
				v[key] = leftOut
			case "headers":
				if headers, ok := value.(map[string]any); ok {
					for name := range headers {
						headers[name] = leftOut
					}
				}
			case "url":
				if text, ok := value.(string); ok {
					if u, err := url.Parse(text); err == nil && u.RawQuery != "" {
						u.RawQuery = ""
						v[key] = u.String() + "?" + leftOut
					}
				}
			default:
				v[key] = withoutSecrets(value)
			}
		}
	}
	return v
}

// ErrRecording is returned for a file that is no recording.
var ErrRecording = problem.New("this is no recording of an adapter", "Give a file that a session with an adapter was recorded into")

// said is a message of a recording.
type said struct {
	ID     json.RawMessage `json:"id,omitempty"`
	Method string          `json:"method,omitempty"`
	Params any             `json:"params,omitempty"`
	Result json.RawMessage `json:"result,omitempty"`
	Error  json.RawMessage `json:"error,omitempty"`
}

// exchange is a request of a recording, and what was answered.
type exchange struct {
	method string
	params any
	answer said
	used   bool
}

// played are the recordings that are being played back by this process: a command may start its adapter several
// times, and the recording goes on.
var played sync.Map

// recording returns the requests of a recording that were answered.
func recording(file string) ([]*exchange, error) {
	if list, ok := played.Load(file); ok {
		return list.([]*exchange), nil
	}
	list, err := readRecording(file)
	if err == nil {
		played.Store(file, list)
	}
	return list, err
}

func readRecording(file string) ([]*exchange, error) {
	b, err := volume.ReadFile(file, maxRecording)
	if err != nil {
		return nil, err
	}
	var list []*exchange
	open := make(map[string]*exchange)
	for line := range bytes.Lines(b) {
		var message struct{ To, From *said }
		if err := json.Unmarshal(line, &message); err != nil {
			continue // what was no message
		}
		switch {
		case message.To != nil && message.To.Method != "" && message.To.ID != nil:
			open[string(message.To.ID)] = &exchange{method: message.To.Method, params: plainParams(message.To.Params)}
		case message.From != nil && message.From.Method == "" && open[string(message.From.ID)] != nil:
			e := open[string(message.From.ID)]
			e.answer = *message.From
			list = append(list, e)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("%s: %w", file, ErrRecording)
	}
	return list, nil
}

// plainParams leaves out of the parameters what differs from computer to computer.
func plainParams(v any) any {
	if m, ok := v.(map[string]any); ok {
		for _, key := range []string{"folder", "version", "language", "game", "address"} {
			delete(m, key)
		}
	}
	return v
}

// noProgram ends nothing.
type noProgram struct{ out io.Closer }

func (n noProgram) Kill()        { _ = n.out.Close() }
func (n noProgram) Close() error { return nil }

// play answers as a recording has it: a request like one that was recorded gets its answer, the first that has not
// been given yet, else the last.
func play(ctx context.Context, file string, o Options) (*Client, error) {
	list, err := recording(file)
	if err != nil {
		return nil, err
	}
	c := newClient("recording", o)
	theirIn, ourOut := io.Pipe()
	ourIn, theirOut := io.Pipe()
	c.group = noProgram{theirOut}
	go func() {
		defer close(c.ended)
		defer theirOut.Close()
		in := bufio.NewScanner(theirIn)
		in.Buffer(nil, MaxLine)
		for in.Scan() {
			var q said
			if json.Unmarshal(in.Bytes(), &q) != nil || q.ID == nil || q.Method == "" {
				continue
			}
			answer := said{ID: q.ID, Error: json.RawMessage(`{"code":-32601,"message":"the recording has no answer to this"}`)}
			var best *exchange
			for _, e := range list {
				if e.method == q.Method && reflect.DeepEqual(e.params, plainParams(q.Params)) && (best == nil || best.used) {
					best = e
				}
			}
			if best != nil {
				best.used = true
				answer.Result, answer.Error = best.answer.Result, best.answer.Error
			}
			b, err := json.Marshal(struct {
				Version string `json:"jsonrpc"`
				said
			}{"2.0", answer})
			if err != nil {
				return
			}
			if _, err := theirOut.Write(append(b, '\n')); err != nil {
				return
			}
		}
	}()
	c.talk(ctx, ourOut, ourIn)
	return c, nil
}
