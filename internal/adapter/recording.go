package adapter

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"sync"

	"morvant/internal/problem"
	"morvant/internal/volume"
)

// A recording is what was exchanged with an adapter, a line for each message: {"to": MESSAGE} for what Morvant
// said, {"from": MESSAGE} for what the adapter did. It is written from what Morvant has understood of a message, member by
// member: what it does not know is not in it. Secrets are left out: answers of the player, what was kept in the keyring,
// headers, what stands behind the server of an address, and all of these wherever else they turn up.

// Recording begins the name of what is no program but a recording that is played back as one.
const Recording = "recording:"

// leftOut stands where a secret was.
const leftOut = "(left out)"

// maxRecording bounds a recording, in bytes.
const maxRecording = 256 << 20

// Recorder writes a recording.
type Recorder struct {
	mu      sync.Mutex
	w       io.Writer
	err     error
	asked   map[string]string // methods of requests of Morvant's, by id
	asks    map[string]string // of the adapter's
	secrets map[string]bool
}

// NewRecorder returns one that writes to w.
func NewRecorder(w io.Writer) *Recorder {
	return &Recorder{w: w, asked: make(map[string]string), asks: make(map[string]string), secrets: make(map[string]bool)}
}

// Watch is for Options.Watch.
func (r *Recorder) Watch(sent bool, line []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	side := "from"
	if sent {
		side = "to"
	}
	b, err := json.Marshal(map[string]any{side: r.understood(sent, line)})
	if err == nil && len(r.secrets) > 0 {
		b, err = r.scrubbed(b)
	}
	if err == nil {
		_, err = r.w.Write(append(b, '\n'))
	}
	if r.err == nil {
		r.err = err
	}
}

// scrubbed leaves the secrets out of all texts of a document.
func (r *Recorder) scrubbed(b []byte) ([]byte, error) {
	var v any
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	var pairs []string
	for _, secret := range slices.SortedFunc(maps.Keys(r.secrets), func(a, b string) int { return len(b) - len(a) }) {
		pairs = append(pairs, secret, leftOut)
	}
	return json.Marshal(replaced(v, strings.NewReplacer(pairs...)))
}

func replaced(v any, with *strings.Replacer) any {
	switch v := v.(type) {
	case string:
		return with.Replace(v)
	case []any:
		for i := range v {
			v[i] = replaced(v[i], with)
		}
	case map[string]any:
		for key, value := range v {
			v[key] = replaced(value, with) // the names of members are the protocol's own
		}
	}
	return v
}

// Err returns the first error.
func (r *Recorder) Err() error { return r.err }

// message is what is recorded of a message.
type message struct {
	Version string          `json:"jsonrpc"`
	ID      json.RawMessage `json:"id,omitempty"`
	Method  string          `json:"method,omitempty"`
	Params  any             `json:"params,omitempty"`
	Result  any             `json:"result,omitempty"`
	Error   any             `json:"error,omitempty"`
}

// recordedError is what is recorded of an error.
type recordedError struct {
	Code    int    `json:"code"`
	Message string `json:"message"`
	Data    *struct {
		Components []string `json:"components,omitempty"`
		Seconds    float64  `json:"seconds,omitempty"`
	} `json:"data,omitempty"`
}

// understood returns what Morvant has understood of a message, without secrets.
func (r *Recorder) understood(sent bool, line []byte) any {
	var m struct {
		ID                    json.RawMessage
		Method                string
		Params, Result, Error json.RawMessage
	}
	if err := json.Unmarshal(line, &m); err != nil {
		return fmt.Sprintf("(no message, %d bytes)", len(line))
	}
	mine, theirs := r.asked, r.asks
	if !sent {
		mine, theirs = r.asks, r.asked
	}
	id := string(m.ID)
	out := message{Version: "2.0", ID: m.ID, Method: printable(m.Method)}
	switch {
	case m.Method != "":
		if m.ID != nil {
			mine[id] = m.Method
		}
		out.Params = r.known(m.Params, paramsOf(m.Method))
	case m.Error != nil:
		delete(theirs, id)
		e := &recordedError{}
		if json.Unmarshal(m.Error, e) == nil {
			e.Message = printable(e.Message)
		}
		out.Error = e
	default:
		out.Result = r.known(m.Result, resultOf(theirs[id]))
		delete(theirs, id)
	}
	return out
}

func paramsOf(method string) any {
	switch method {
	case "initialize":
		return &InitializeParams{}
	case "signIn":
		return &SignInParams{}
	case "unlock":
		return &UnlockParams{}
	case "builds":
		return &BuildsParams{}
	case "manifest":
		return &ManifestParams{}
	case "content":
		return &ContentParams{}
	case "ask":
		return &Question{}
	case "secret/get", "secret/set":
		return &SecretParams{}
	case "progress":
		return &Progress{}
	case "done":
		return &Done{}
	}
	return &struct{}{}
}

func resultOf(method string) any {
	switch method {
	case "initialize":
		return &Initialized{}
	case "signIn":
		return &SignedIn{}
	case "builds":
		return &Builds{}
	case "manifest":
		return &Manifest{}
	case "content":
		return &Content{}
	case "ask":
		return &Answer{}
	case "secret/get":
		return &SecretValue{}
	}
	return &struct{}{}
}

// known reads what Morvant knows of a value, and leaves secrets out.
func (r *Recorder) known(raw json.RawMessage, v any) any {
	if len(raw) == 0 {
		return nil
	}
	if err := json.Unmarshal(raw, v); err != nil {
		return "(not understood)"
	}
	switch v := v.(type) {
	case *InitializeParams:
		v.Folder, v.Address = "", r.address(v.Address)
	case *Answer:
		v.Answer = r.secret(v.Answer)
	case *SecretValue:
		v.Value = r.secret(v.Value)
	case *SecretParams:
		if v.Value != nil {
			left := r.secret(*v.Value)
			v.Value = &left
		}
	case *Content:
		for i := range v.Places {
			at := &v.Places[i]
			headers := make(map[string]string, len(at.Headers))
			for name, value := range at.Headers {
				headers[r.plain(name)] = r.secret(value)
			}
			at.Headers = headers
			at.URL = r.place(at.URL)
		}
	}
	return v
}

// leastSecret is how short a secret must not be to be looked for elsewhere: a letter would be everywhere.
const leastSecret = 4

// secret leaves a secret out, here and wherever else it stands.
func (r *Recorder) secret(s string) string {
	if s == "" {
		return ""
	}
	if len(s) >= leastSecret {
		r.secrets[s] = true
	}
	return leftOut
}

// plain returns a text without the secrets that are known.
func (r *Recorder) plain(s string) string {
	for secret := range r.secrets {
		s = strings.ReplaceAll(s, secret, leftOut)
	}
	return s
}

// address leaves out of the player's own address what may be a key: a name before the server, what stands behind ? or #.
func (r *Recorder) address(s string) string {
	cut := strings.IndexAny(s, "?#")
	if cut >= 0 {
		for _, part := range strings.FieldsFunc(s[cut:], func(c rune) bool { return strings.ContainsRune("?#&;=", c) }) {
			r.secret(part)
		}
		r.secret(s[cut+1:])
		s = s[:cut+1] + leftOut
	}
	if scheme, rest, ok := strings.Cut(s, "://"); ok {
		if user, host, ok := strings.Cut(rest, "@"); ok && !strings.Contains(user, "/") {
			for part := range strings.SplitSeq(user, ":") {
				r.secret(part)
			}
			s = scheme + "://" + leftOut + "@" + host
		}
	}
	return s
}

// place leaves out of the address of a place all but the server: any part of it may be a ticket.
func (r *Recorder) place(s string) string {
	u, err := url.Parse(s)
	if err != nil || u.Host == "" {
		return leftOut
	}
	return u.Scheme + "://" + u.Host + "/" + leftOut
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
