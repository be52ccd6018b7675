// Package adapter talks to outside programs that speak for distributors with formats of their own.
//
// An adapter is a program that answers JSON-RPC 2.0 requests on its standard input and output, a message a line.
// docs/adapters.md is the protocol. Whatever it says is treated as hostile: lines, pages and lists are bounded, every
// name and path is checked, and a program that is silent, floods, or says what it was not asked is ended, with all that
// it has started.
package adapter

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/creachadair/jrpc2"

	"morvant/internal/problem"
	"morvant/internal/process"
	"morvant/internal/progress"
)

// Errors that callers test for.
var (
	ErrProgram = problem.New("this cannot be an adapter", "Give the path of a program, or the NAME of a program morvant-adapter-NAME on PATH or in the folder adapters of Morvant's home")
	ErrSilent  = errors.New("it has stopped answering")
	ErrEnded   = errors.New("it has ended")
	ErrNoAsk   = problem.New("it asks a question, and there is nobody to ask", "Run it at a terminal, or give the answers with --answers-stdin, a line each")
)

const (
	// exitTime is how long an adapter may take to end.
	exitTime = 5 * time.Second
	// maxLog is how much of what an adapter writes to its standard error is kept, in bytes.
	maxLog         = 64 << 10
	defaultSilence = 30 * time.Second
	namePrefix     = "morvant-adapter-"
)

// Secrets keep what an adapter wants kept from others.
type Secrets interface {
	Get(name string) (string, bool, error)
	Set(name string, value *string) error // nil: forget it
}

// Options say how an adapter is talked to.
type Options struct {
	Silence time.Duration // how long it may say nothing; 0: half a minute
	Ask     func(context.Context, Question) (string, error)
	Offer   bool    // where it wants somebody signed in, ask them to, once
	Secrets Secrets // nil: there are none
	Meter   progress.Meter
	Log     io.Writer                    // what it writes to its standard error, as it comes; nil: kept only
	Watch   func(sent bool, line []byte) // is shown every message; nil: nobody looks
	Self    string                       // this program, for process.StartGroup; empty: the adapter may outlive it
}

// Find returns the program that a player named: a path, or a name.
func Find(name, folder string) (string, error) {
	if recording, ok := strings.CutPrefix(name, Recording); ok {
		full, err := filepath.Abs(recording)
		return Recording + full, err
	}
	if strings.ContainsAny(name, `/\`) || filepath.Ext(name) != "" {
		full, err := filepath.Abs(name)
		if err != nil {
			return "", err
		}
		return full, usable(full)
	}
	for _, prefix := range []string{namePrefix, ""} {
		if prefix == "" && !strings.HasPrefix(name, namePrefix) {
			continue
		}
		for _, end := range endings() {
			if full := filepath.Join(folder, prefix+name+end); usable(full) == nil {
				return full, nil
			}
		}
		if full, err := exec.LookPath(prefix + name); err == nil {
			return filepath.Abs(full)
		}
	}
	return "", fmt.Errorf("%s: %w: there is no program %s%s", printable(name), ErrProgram, namePrefix, strings.TrimPrefix(printable(name), namePrefix))
}

func usable(full string) error {
	info, err := os.Stat(full)
	switch {
	case err != nil:
		return fmt.Errorf("%s: %w: there is no such file", full, ErrProgram)
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s: %w: it is not a file", full, ErrProgram)
	case !executable(info):
		return fmt.Errorf("%s: %w: it is not executable (chmod +x makes it so)", full, ErrProgram)
	}
	return nil
}

// Client is a running adapter.
type Client struct {
	name    string
	o       Options
	cmd     *exec.Cmd
	group   ending
	rpc     *jrpc2.Client
	line    *lines
	log     *Tail
	ended   chan struct{} // the program has
	asking  atomic.Bool   // it may ask
	offered atomic.Bool   // to sign in
	waiting atomic.Int32  // for answers of the player
	unbound func() bool   // lets go of the context that ends it
	// User is who has signed in in this talk; empty: nobody.
	User string
}

// Start starts an adapter. folder is its own, and where it runs.
func Start(ctx context.Context, program, folder string, o Options) (*Client, error) {
	if recording, ok := strings.CutPrefix(program, Recording); ok {
		return play(ctx, recording, o)
	}
	if err := usable(program); err != nil {
		return nil, err
	}
	c := newClient(filepath.Base(program), o)
	c.cmd = command(program)
	c.cmd.Dir, c.cmd.Stderr, c.cmd.Env = folder, c.log, process.Environment()
	in, err := c.cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	out, outEnd, err := os.Pipe() // its children may hold the other end open: Wait must not wait for them
	if err != nil {
		return nil, errors.Join(err, in.Close())
	}
	c.cmd.Stdout = outEnd
	c.cmd.WaitDelay = time.Second
	g, err := process.StartGroup(c.cmd, o.Self)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: %v", program, ErrProgram, errors.Join(err, in.Close(), out.Close(), outEnd.Close()))
	}
	c.group = g
	outEnd.Close()
	go func() {
		c.cmd.Wait()
		close(c.ended)
	}()
	c.talk(ctx, in, out)
	return c, nil
}

// ending ends what is on the other side.
type ending interface {
	Kill()
	Close() error
}

func newClient(name string, o Options) *Client {
	if o.Silence <= 0 {
		o.Silence = defaultSilence
	}
	return &Client{name: name, o: o, log: &Tail{also: o.Log}, ended: make(chan struct{})}
}

// talk begins to talk: in is what the other side reads, out what it says.
func (c *Client) talk(ctx context.Context, in io.WriteCloser, out io.ReadCloser) {
	c.line = &lines{in: bufio.NewReaderSize(out, 64<<10), out: in, close: out, pending: make(map[string]bool), watch: c.o.Watch}
	c.line.touch()
	c.rpc = jrpc2.NewClient(c.line, &jrpc2.ClientOptions{OnCallback: c.callback, OnNotify: c.notified})
	c.unbound = context.AfterFunc(ctx, func() { c.group.Kill() })
}

// Log returns the last of what the adapter has written to its standard error.
func (c *Client) Log() string { return c.log.String() }

// Over reports whether the talk has ended, so that nothing more can be asked.
func (c *Client) Over() bool { return c.line.failure() != nil || c.rpc.IsStopped() }

// Name returns what the adapter is called in messages.
func (c *Client) Name() string { return c.name }

// Close ends the adapter and everything that it has started.
func (c *Client) Close() error {
	c.unbound()
	if !c.rpc.IsStopped() {
		_ = c.rpc.Notify(context.Background(), "exit", nil)
	}
	_ = c.line.out.Close()
	if c.line.failure() != nil {
		c.group.Kill() // nothing more is to be expected of it
	}
	select {
	case <-c.ended:
	case <-time.After(exitTime):
	}
	c.group.Kill()
	<-c.ended
	_ = c.line.close.Close()
	_ = c.rpc.Close()
	return c.group.Close()
}

// wrong returns the error for an adapter that does what it must not.
func (c *Client) wrong(format string, args ...any) error {
	return fmt.Errorf("the adapter %s: %w: %s", c.name, ErrProtocol, fmt.Sprintf(format, args...))
}

// call asks for something.
func (c *Client) call(ctx context.Context, method string, params, result any) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	c.line.touch()
	c.line.messages.Store(0)
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			left := c.o.Silence - c.line.since()
			if c.waiting.Load() > 0 {
				left = c.o.Silence
			}
			if left <= 0 {
				cancel(ErrSilent)
				c.group.Kill()
				return
			}
			select {
			case <-done:
				return
			case <-ctx.Done():
				return
			case <-time.After(left):
			}
		}
	}()
	response, err := c.rpc.Call(ctx, method, params)
	if err == nil {
		return c.take(method, response, result)
	}
	return c.explain(ctx, method, err)
}

// take reads a result.
func (c *Client) take(method string, response *jrpc2.Response, result any) error {
	if err := response.UnmarshalResult(result); err != nil {
		return c.wrong("its answer to %s cannot be read: %s", method, printable(strings.TrimPrefix(err.Error(), "json: ")))
	}
	return nil
}

// explain says why there is no answer.
func (c *Client) explain(ctx context.Context, method string, err error) error {
	var answered *jrpc2.Error
	// The library's own codes: nobody has answered.
	answers := errors.As(err, &answered) && answered.Code != jrpc2.Cancelled && answered.Code != jrpc2.SystemError && answered.Code != jrpc2.DeadlineExceeded
	if answers && c.line.failure() == nil && !errors.Is(context.Cause(ctx), ErrSilent) && ctx.Err() == nil {
		e := &Error{Adapter: c.name, Code: int(answered.Code), Message: printable(answered.Message)}
		var data struct {
			Components []string `json:"components"`
			Seconds    float64  `json:"seconds"`
		}
		if json.Unmarshal(answered.Data, &data) == nil {
			for _, name := range data.Components[:min(len(data.Components), 256)] {
				e.Components = append(e.Components, printable(name))
			}
			e.After = time.Duration(max(0, min(data.Seconds, 3600)) * float64(time.Second))
		}
		if e.Message == "" {
			e.Message = fmt.Sprintf("error %d", e.Code)
		}
		return fmt.Errorf("the adapter %s: %w", c.name, e)
	}
	switch cause := context.Cause(ctx); {
	case errors.Is(cause, ErrSilent):
		return fmt.Errorf("the adapter %s: %w: no answer to %s for %s", c.name, ErrSilent, method, c.o.Silence)
	case c.line.failure() != nil:
		return c.line.explain(c)
	case cause != nil:
		return cause
	}
	select { // what it wrote last may still be on its way
	case <-c.ended:
	case <-time.After(time.Second):
	}
	text := ""
	if said := c.log.lastLine(); said != "" {
		text = ": " + printable(said)
	}
	return fmt.Errorf("the adapter %s: %w in the middle of %s%s", c.name, ErrEnded, method, text)
}

// callback answers what the adapter asks.
func (c *Client) callback(ctx context.Context, r *jrpc2.Request) (any, error) {
	switch r.Method() {
	case "ask":
		if !c.asking.Load() {
			c.fail(fmt.Errorf("it asks a question outside of signing in"))
			return nil, jrpc2.Errorf(jrpc2.InvalidRequest, "questions are for signIn and unlock")
		}
		var q Question
		if err := r.UnmarshalParams(&q); err != nil {
			return nil, err
		}
		if q.Why != "user" && q.Why != "password" && q.Why != "code" && q.Why != "key" {
			c.fail(fmt.Errorf("it asks for \"%s\"; user, password, code and key are possible", printable(q.Why)))
			return nil, jrpc2.Errorf(jrpc2.InvalidParams, "why")
		}
		q.Text = printable(q.Text)
		if c.o.Ask == nil {
			c.fail(ErrNoAsk)
			return nil, jrpc2.Errorf(jrpc2.InternalError, "there is nobody to ask")
		}
		c.waiting.Add(1)
		answer, err := c.o.Ask(ctx, q)
		c.waiting.Add(-1)
		c.line.touch()
		if err != nil {
			c.fail(err)
			return nil, jrpc2.Errorf(jrpc2.InternalError, "not answered")
		}
		return Answer{answer}, nil
	case "secret/get", "secret/set":
		var p SecretParams
		if err := r.UnmarshalParams(&p); err != nil {
			return nil, err
		}
		if err := checkID("the name of a secret", p.Name); err != nil || c.o.Secrets == nil {
			return nil, jrpc2.Errorf(jrpc2.InvalidParams, "this secret cannot be kept")
		}
		if r.Method() == "secret/get" {
			value, _, err := c.o.Secrets.Get(p.Name)
			return SecretValue{value}, err
		}
		if p.Value != nil && len(*p.Value) > MaxSecret {
			return nil, jrpc2.Errorf(jrpc2.InvalidParams, "a secret has at most %d bytes", MaxSecret)
		}
		return struct{}{}, c.o.Secrets.Set(p.Name, p.Value)
	}
	return nil, jrpc2.Errorf(jrpc2.MethodNotFound, "Morvant answers ask, secret/get and secret/set")
}

// MaxSecret bounds a secret, in bytes.
const MaxSecret = 16 << 10

// fail ends the talk for a reason.
func (c *Client) fail(err error) {
	c.line.fail(err)
	c.group.Kill()
}

// notified shows how far a long request is.
func (c *Client) notified(r *jrpc2.Request) {
	var p Progress
	if r.Method() != "progress" || r.UnmarshalParams(&p) != nil || c.o.Meter == nil {
		return
	}
	c.line.show(c.o.Meter, p)
}

// Tail keeps the end of what is written to it: its last 64 KiB.
type Tail struct {
	mu   sync.Mutex
	b    []byte
	also io.Writer
}

func (t *Tail) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.b = append(t.b, b...)
	t.b = t.b[max(0, len(t.b)-maxLog):]
	if t.also != nil {
		_, _ = t.also.Write(b)
	}
	return len(b), nil
}

func (t *Tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.b)
}

func (t *Tail) lastLine() string {
	all := strings.Split(strings.TrimSpace(t.String()), "\n")
	return all[len(all)-1]
}
