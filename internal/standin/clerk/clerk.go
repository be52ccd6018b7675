// Package clerk is the adapter for the stand-in distributor: it makes of the office's builds, parts and pieces what the
// protocol has. Nothing of it is Morvant's business; a friend of a distributor would write just this.
package clerk

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"morvant/internal/adapter"
	"morvant/internal/adapter/speak"
	"morvant/internal/standin"
)

// Name is the name of the adapter for the office; the program is called morvant-adapter- and that.
const Name = "quay-office"

// Clerk is the adapter for the office: it makes of the office's builds, parts and pieces what the protocol has.
// Nothing of it is Morvant's business; a distributor's friend would write just this.
type Clerk struct {
	address string
	ticket  string
	user    string
}

// Serve answers on the standard input and output.
func (c *Clerk) Serve(in io.Reader, out io.WriteCloser) error {
	return speak.Serve(in, out, speak.Methods{
		Initialize: c.initialize, SignIn: c.signIn, SignOut: c.signOut, Unlock: c.unlock, Builds: c.builds, Manifest: c.manifest, Content: c.content,
	})
}

func (c *Clerk) initialize(ctx context.Context, p adapter.InitializeParams) (*adapter.Initialized, error) {
	u, err := url.Parse(p.Address)
	if err != nil || u.Host == "" {
		return nil, fmt.Errorf("the address of the office is a web address, not \"%s\"", p.Address)
	}
	c.address = strings.TrimSuffix(p.Address, "/")
	kept, err := speak.Secret(ctx, "ticket")
	if err != nil {
		return nil, err
	}
	c.user, c.ticket, _ = strings.Cut(kept, " ")
	r := &adapter.Initialized{Protocol: adapter.Version, Name: Name, Title: "The office of Cinder Quay", SignIn: adapter.SignInRequired, User: c.user}
	b, err := c.get(ctx, "/v1/lines")
	if err != nil {
		return nil, err
	}
	var lines []struct {
		Line   string
		Locked bool
	}
	if err := json.Unmarshal(b, &lines); err != nil {
		return nil, err
	}
	for _, l := range lines {
		r.Channels = append(r.Channels, adapter.Channel{Name: l.Line, Locked: l.Locked})
	}
	return r, nil
}

// ask sends a request and says what an answer without success means.
func (c *Clerk) ask(ctx context.Context, method, path string, body any) ([]byte, error) {
	b, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, method, c.address+path, bytes.NewReader(b))
	if err != nil {
		return nil, err
	}
	req.Header.Set("X-Ticket", c.ticket)
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, speak.Error(adapter.CodeUnreachable, "the office cannot be reached")
	}
	defer resp.Body.Close()
	if b, err = io.ReadAll(resp.Body); err != nil {
		return nil, speak.Error(adapter.CodeUnreachable, "the office's answer was cut off")
	}
	var why struct{ Reason string }
	_ = json.Unmarshal(b, &why)
	switch resp.StatusCode {
	case http.StatusOK:
		return b, nil
	case http.StatusUnauthorized:
		return nil, speak.Error(adapter.CodeSignIn, "the office wants a ticket")
	case http.StatusNotFound:
		return nil, speak.Error(adapter.CodeNoBuild, "the office has no such revision")
	case http.StatusTooManyRequests:
		seconds, _ := strconv.Atoi(resp.Header.Get("Retry-After"))
		return nil, speak.Later("the office is busy", time.Duration(seconds)*time.Second)
	case http.StatusForbidden:
		switch why.Reason {
		case "locked":
			return nil, speak.Error(adapter.CodeLocked, "the line is locked")
		case "not owned":
			return nil, speak.Error(adapter.CodeNotOwned, "the account does not own that")
		}
		return nil, speak.Error(adapter.CodeWrong, why.Reason)
	}
	return nil, fmt.Errorf("the office answers %d", resp.StatusCode)
}

func (c *Clerk) get(ctx context.Context, path string) ([]byte, error) {
	return c.ask(ctx, http.MethodGet, path, nil)
}

func (c *Clerk) signIn(ctx context.Context, p adapter.SignInParams) (*adapter.SignedIn, error) {
	user := p.User
	var err error
	if user == "" {
		if user, err = speak.Ask(ctx, adapter.Question{Text: "Name at the office", Why: "user"}); err != nil {
			return nil, err
		}
	}
	password, err := speak.Ask(ctx, adapter.Question{Text: "Password of " + user + " at the office", Secret: true, Why: "password"})
	if err != nil {
		return nil, err
	}
	form := map[string]string{"name": user, "password": password}
	b, err := c.ask(ctx, http.MethodPost, "/v1/ticket", form)
	if e, ok := err.(*adapter.Error); ok && e.Message == "code" {
		if form["code"], err = speak.Ask(ctx, adapter.Question{Text: "One-time code", Secret: true, Why: "code"}); err != nil {
			return nil, err
		}
		b, err = c.ask(ctx, http.MethodPost, "/v1/ticket", form)
	}
	if err != nil {
		return nil, err
	}
	var given struct{ Ticket string }
	if err := json.Unmarshal(b, &given); err != nil {
		return nil, err
	}
	c.user, c.ticket = user, given.Ticket
	kept := user + " " + given.Ticket
	return &adapter.SignedIn{User: user}, speak.Keep(ctx, "ticket", &kept)
}

func (c *Clerk) signOut(ctx context.Context) error {
	c.user, c.ticket = "", ""
	return speak.Keep(ctx, "ticket", nil)
}

func (c *Clerk) unlock(ctx context.Context, p adapter.UnlockParams) error {
	key, err := speak.Ask(ctx, adapter.Question{Text: "Key of the line " + p.Channel, Secret: true, Why: "key"})
	if err != nil {
		return err
	}
	_, err = c.ask(ctx, http.MethodPost, "/v1/lines/"+url.PathEscape(p.Channel)+"/key", map[string]string{"key": key})
	return err
}

// partName returns the component that a number stands for.
func partName(number int) string {
	for name, n := range standin.OfficeParts {
		if n == number {
			return name
		}
	}
	return fmt.Sprintf("part-%d", number)
}

// pageSize is how many builds the clerk tells at once.
const pageSize = 3

func (c *Clerk) builds(ctx context.Context, p adapter.BuildsParams) (*adapter.Builds, error) {
	b, err := c.get(ctx, "/v1/lines/"+url.PathEscape(p.Channel)+"/builds")
	if err != nil {
		return nil, err
	}
	var list []standin.OfficeBuild
	if err := json.Unmarshal(b, &list); err != nil {
		return nil, err
	}
	from, _ := strconv.Atoi(p.Next)
	from = min(max(from, 0), len(list))
	r := &adapter.Builds{}
	for _, o := range list[from:min(len(list), from+pageSize)] {
		n := adapter.Build{ID: strconv.Itoa(o.Number), Date: time.Unix(o.Uploaded, 0).UTC().Format(time.RFC3339)}
		for _, part := range o.Parts {
			owned := part.Owned
			n.Components = append(n.Components, adapter.Component{
				Name: partName(part.Part), Manifest: fmt.Sprint(part.Revision), Required: part.Part == standin.OfficeParts["base"], Owned: &owned, Files: part.Files, Bytes: part.Bytes,
			})
		}
		r.Builds = append(r.Builds, n)
	}
	if from+pageSize < len(list) {
		r.Next = strconv.Itoa(from + pageSize)
	}
	return r, nil
}

func (c *Clerk) files(ctx context.Context, component, revision string) ([]standin.OfficeFile, error) {
	if _, err := strconv.ParseInt(revision, 10, 64); err != nil {
		return nil, speak.Error(adapter.CodeNoBuild, "revisions of the office are numbers")
	}
	b, err := c.get(ctx, fmt.Sprintf("/v1/manifest/%d/%s", standin.OfficeParts[component], revision))
	if err != nil {
		return nil, err
	}
	return standin.DecodeOffice(b)
}

func (c *Clerk) manifest(ctx context.Context, p adapter.ManifestParams) (*adapter.Manifest, error) {
	files, err := c.files(ctx, p.Component, p.Manifest)
	if err != nil {
		return nil, err
	}
	r := &adapter.Manifest{}
	for _, f := range files {
		out := adapter.File{
			Path: f.Path, Size: f.Size, Digest: "sha1:" + hex.EncodeToString(f.Sum[:]), Executable: f.Program, Modified: time.Unix(f.Modified, 0).UTC().Format(time.RFC3339),
		}
		for _, piece := range f.Pieces {
			out.Pieces = append(out.Pieces, adapter.Piece{Size: int64(piece.Size), Digest: "sha1:" + hex.EncodeToString(piece.Sum[:]), Stored: piece.Stored})
		}
		r.Files = append(r.Files, out)
	}
	return r, nil
}

func (c *Clerk) content(ctx context.Context, p adapter.ContentParams) (*adapter.Content, error) {
	files, err := c.files(ctx, p.Component, p.Manifest)
	if err != nil {
		return nil, err
	}
	byPath := make(map[string]standin.OfficeFile)
	for _, f := range files {
		byPath[f.Path] = f
	}
	r := &adapter.Content{}
	for _, w := range p.Want {
		f := byPath[w.Path]
		for i, piece := range f.Pieces {
			if w.Pieces != nil && !slices.Contains(w.Pieces, i) {
				continue
			}
			r.Places = append(r.Places, adapter.Place{
				Path: w.Path, Piece: i, URL: fmt.Sprintf("%s/v1/bundle/%d/%d", c.address, standin.OfficeParts[p.Component], piece.Revision),
				Headers: map[string]string{"X-Ticket": c.ticket}, Offset: piece.Offset, Length: piece.Stored, Coding: "deflate",
			})
		}
	}
	return r, nil
}

// programName is what the adapter's program is called.
const programName = "morvant-adapter-" + Name

// Is reports whether a program that is called so is to be the adapter for the office.
func Is(program string) bool {
	return strings.TrimSuffix(filepath.Base(program), ".exe") == programName
}

// Run is the adapter as a program of its own.
func Run(in, out, log *os.File) int {
	if err := (&Clerk{}).Serve(in, out); err != nil {
		fmt.Fprintln(log, err)
		return 1
	}
	return 0
}

// Put puts the adapter for the office into a folder: this program under another name. It returns its path.
func Put(dir string) (string, error) {
	own, err := os.Executable()
	if err != nil {
		return "", err
	}
	name := filepath.Join(dir, programName)
	if runtime.GOOS == "windows" {
		name += ".exe"
	}
	if err := errors.Join(os.MkdirAll(dir, 0o755), os.RemoveAll(name)); err != nil {
		return "", err
	}
	if runtime.GOOS != "windows" && os.Symlink(own, name) == nil {
		return name, nil
	}
	b, err := os.ReadFile(own)
	if err != nil {
		return "", err
	}
	return name, os.WriteFile(name, b, 0o755)
}
