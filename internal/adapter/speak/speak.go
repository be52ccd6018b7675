// Package speak is the other side of package adapter: it lets a Go program be an adapter. The program fills in
// Methods and calls Serve.
package speak

import (
	"context"
	"errors"
	"io"
	"math"
	"time"

	"github.com/creachadair/jrpc2"
	"github.com/creachadair/jrpc2/channel"
	"github.com/creachadair/jrpc2/handler"

	"morvant/internal/adapter"
)

// Methods are what an adapter answers. Those that are nil are answered with an error.
type Methods struct {
	Initialize func(context.Context, adapter.InitializeParams) (*adapter.Initialized, error)
	SignIn     func(context.Context, adapter.SignInParams) (*adapter.SignedIn, error)
	SignOut    func(context.Context) error
	Unlock     func(context.Context, adapter.UnlockParams) error
	Builds     func(context.Context, adapter.BuildsParams) (*adapter.Builds, error)
	Manifest   func(context.Context, adapter.ManifestParams) (*adapter.Manifest, error)
	Content    func(context.Context, adapter.ContentParams) (*adapter.Content, error)
	Done       func(adapter.Done) // files of the adapter's folder have been read, and can go
}

// Serve answers until the other side says that it is over.
func Serve(in io.Reader, out io.WriteCloser, m Methods) error {
	methods := handler.Map{
		"initialize": method(m.Initialize), "signIn": method(m.SignIn), "builds": method(m.Builds), "manifest": method(m.Manifest), "content": method(m.Content),
		"signOut": func(ctx context.Context, _ *jrpc2.Request) (any, error) {
			if m.SignOut == nil {
				return struct{}{}, jrpc2.Errorf(jrpc2.MethodNotFound, "there is nothing to sign out of")
			}
			return struct{}{}, answer(m.SignOut(ctx))
		},
		"unlock": handler.New(func(ctx context.Context, p adapter.UnlockParams) (struct{}, error) {
			if m.Unlock == nil {
				return struct{}{}, jrpc2.Errorf(jrpc2.MethodNotFound, "no channel is locked")
			}
			return struct{}{}, answer(m.Unlock(ctx, p))
		}),
		"done": handler.New(func(_ context.Context, d adapter.Done) error {
			if m.Done != nil {
				m.Done(d)
			}
			return nil
		}),
		"exit": func(ctx context.Context, _ *jrpc2.Request) (any, error) {
			go jrpc2.ServerFromContext(ctx).Stop()
			return nil, nil
		},
	}
	s := jrpc2.NewServer(methods, &jrpc2.ServerOptions{AllowPush: true}).Start(channel.Line(in, out))
	err := s.Wait()
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrClosedPipe) {
		return nil
	}
	return err
}

func method[P, R any](f func(context.Context, P) (*R, error)) jrpc2.Handler {
	if f == nil {
		return handler.New(func(context.Context) error {
			return jrpc2.Errorf(jrpc2.MethodNotFound, "this adapter does not know that")
		})
	}
	return handler.New(func(ctx context.Context, p P) (*R, error) {
		r, err := f(ctx, p)
		return r, answer(err)
	})
}

// answer makes an error of the protocol of one of ours.
func answer(err error) error {
	var e *adapter.Error
	if !errors.As(err, &e) {
		var known *jrpc2.Error
		if err != nil && !errors.As(err, &known) {
			err = jrpc2.Errorf(jrpc2.InternalError, "%v", err)
		}
		return err
	}
	data := make(map[string]any)
	if e.Components != nil {
		data["components"] = e.Components
	}
	if e.After > 0 {
		data["seconds"] = math.Ceil(e.After.Seconds())
	}
	return jrpc2.Errorf(jrpc2.Code(e.Code), "%s", e.Message).WithData(data)
}

// Ask asks the player something, during signIn and unlock.
func Ask(ctx context.Context, q adapter.Question) (string, error) {
	var a adapter.Answer
	r, err := jrpc2.ServerFromContext(ctx).Callback(ctx, "ask", q)
	if err == nil {
		err = r.UnmarshalResult(&a)
	}
	return a.Answer, err
}

// Secret returns what was kept under a name; empty: nothing.
func Secret(ctx context.Context, name string) (string, error) {
	var v adapter.SecretValue
	r, err := jrpc2.ServerFromContext(ctx).Callback(ctx, "secret/get", adapter.SecretParams{Name: name})
	if err == nil {
		err = r.UnmarshalResult(&v)
	}
	return v.Value, err
}

// Keep keeps a secret in the player's keyring; nil forgets it.
func Keep(ctx context.Context, name string, value *string) error {
	_, err := jrpc2.ServerFromContext(ctx).Callback(ctx, "secret/set", adapter.SecretParams{Name: name, Value: value})
	return err
}

// Tell says how far a long request is.
func Tell(ctx context.Context, text string, done, total int64) {
	_ = jrpc2.ServerFromContext(ctx).Notify(ctx, "progress", adapter.Progress{Text: text, Done: done, Total: total})
}

// Later is the answer of a distributor that cannot answer now.
func Later(message string, after time.Duration) error {
	return &adapter.Error{Code: adapter.CodeLater, Message: message, After: after}
}

// Error is an answer with a code.
func Error(code int, message string) error { return &adapter.Error{Code: code, Message: message} }
