package adapter

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// asAdapter makes the test's own program an adapter that misbehaves as the variable says.
const asAdapter = "LC_MORVANT_TEST_ADAPTER"

func TestMain(m *testing.M) {
	if how := os.Getenv(asAdapter); how != "" {
		misbehave(how)
		os.Exit(0)
	}
	os.Exit(m.Run())
}

const hello = `{"protocol":1,"name":"harbour","sign_in":"optional","channels":[{"name":"public"}]}`

// answers are what the adapter says of itself, and of builds, in the ways of which only these are wrong.
var answers = map[string]map[string]string{
	"initialize": {
		"other version": `{"protocol":3,"name":"harbour","sign_in":"none","channels":[{"name":"public"}]}`,
		"bad name":      `{"protocol":1,"name":"../x","sign_in":"none","channels":[{"name":"public"}]}`,
		"bad sign-in":   `{"protocol":1,"name":"harbour","sign_in":"maybe","channels":[{"name":"public"}]}`,
		"no channel":    `{"protocol":1,"name":"harbour","sign_in":"none","channels":[]}`,
		"bad channel":   `{"protocol":1,"name":"harbour","sign_in":"none","channels":[{"name":"lane"}]}`,
		"not so":        `{"protocol":"one"}`,
	},
	"builds": {
		"no id":            `{"builds":[{"id":"","components":[{"name":"base","manifest":"1"}]}]}`,
		"no date":          `{"builds":[{"id":"1","date":"5 August","components":[{"name":"base","manifest":"1"}]}]}`,
		"no component":     `{"builds":[{"id":"1","components":[]}]}`,
		"component twice":  `{"builds":[{"id":"1","components":[{"name":"base","manifest":"1"},{"name":"base","manifest":"2"}]}]}`,
		"build twice":      `{"builds":[{"id":"1","components":[{"name":"base","manifest":"1"}]},{"id":"1","components":[{"name":"base","manifest":"1"}]}]}`,
		"label of ours":    `{"builds":[{"id":"1","label":"newest","components":[{"name":"base","manifest":"1"}]}]}`,
		"escapes":          `{"builds":[{"id":"1","note":"\u001b[2J","components":[{"name":"base","manifest":"1"}]}]}`,
		"pages do not end": `{"builds":[],"next":"again"}`,
		"negative":         `{"builds":[{"id":"1","components":[{"name":"base","manifest":"1","bytes":-5}]}]}`,
		"long id":          `{"builds":[{"id":"` + strings.Repeat("x", 201) + `","components":[{"name":"base","manifest":"1"}]}]}`,
	},
	"manifest": {
		"up and out":      `{"files":[{"path":"../../etc/passwd","size":1}]}`,
		"full path":       `{"files":[{"path":"/etc/passwd","size":1}]}`,
		"a drive":         `{"files":[{"path":"C:/x","size":1}]}`,
		"our own folder":  `{"files":[{"path":".morvant/state","size":1}]}`,
		"path twice":      `{"files":[{"path":"a","size":1},{"path":"a","size":1}]}`,
		"below a file":    `{"files":[{"path":"a","size":1},{"path":"a/b","size":1}]}`,
		"digest":          `{"files":[{"path":"a","size":1,"digest":"crc32:00000000"}]}`,
		"pieces too few":  `{"files":[{"path":"a","size":3,"pieces":[{"size":1},{"size":1}]}]}`,
		"pieces negative": `{"files":[{"path":"a","size":3,"pieces":[{"size":-1},{"size":4}]}]}`,
		"size":            `{"files":[{"path":"a","size":-3}]}`,
		"time":            `{"files":[{"path":"a","size":3,"modified":"now"}]}`,
		"link out":        `{"files":[],"links":[{"path":"a","target":"../../x"}]}`,
		"no end":          `{"files":[],"next":"1"}`,
	},
	"content": {
		"not asked for":  `{"places":[{"path":"b","url":"https://harbour.example/x"}]}`,
		"other piece":    `{"places":[{"path":"a","piece":7,"url":"https://harbour.example/x"}]}`,
		"nowhere":        `{"places":[{"path":"a"}]}`,
		"both":           `{"places":[{"path":"a","url":"https://harbour.example/x","file":"y"}]}`,
		"other scheme":   `{"places":[{"path":"a","url":"file:///etc/passwd"}]}`,
		"ftp":            `{"places":[{"path":"a","url":"ftp://harbour.example/x"}]}`,
		"plain and weak": `{"places":[{"path":"a","url":"http://harbour.example/x"}]}`,
		"user in it":     `{"places":[{"path":"a","url":"https://ada:pw@harbour.example/x"}]}`,
		"file out":       `{"places":[{"path":"a","file":"../secrets.json"}]}`,
		"file, full":     `{"places":[{"path":"a","file":"/etc/passwd"}]}`,
		"coding":         `{"places":[{"path":"a","file":"y","coding":"rot13"}]}`,
		"header":         `{"places":[{"path":"a","url":"https://harbour.example/x","headers":{"A":"b\r\nC: d"}}]}`,
		"expires":        `{"places":[{"path":"a","file":"y"}],"expires":"soon"}`,
	},
}

// misbehave is the adapter: "METHOD/WAY" answers with one of answers, other words are other ways.
func misbehave(how string) {
	in := bufio.NewScanner(os.Stdin)
	in.Buffer(nil, MaxLine)
	reply := func(id json.RawMessage, result string) {
		fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":%s}`+"\n", id, result)
	}
	wrong, way, _ := strings.Cut(how, "/")
	pages, signedIn := 0, false
	for in.Scan() {
		var q struct {
			ID     json.RawMessage `json:"id"`
			Method string          `json:"method"`
		}
		if json.Unmarshal(in.Bytes(), &q) != nil || q.Method == "" || q.Method == "exit" {
			continue
		}
		if q.Method == "signIn" {
			fmt.Println(`{"jsonrpc":"2.0","id":"a","method":"ask","params":{"text":"Name","why":"user"}}`)
			in.Scan()
			signedIn = strings.Contains(in.Text(), `"answer":"ada"`)
		}
		if q.Method == wrong {
			if answer, ok := answers[wrong][way]; ok {
				reply(q.ID, answer)
				continue
			}
			switch way {
			case "rubbish":
				fmt.Println("Welcome to the harbour!")
			case "half":
				fmt.Print(`{"jsonrpc":"2.0","id":`)
				os.Exit(0)
			case "endless line":
				for {
					if _, err := os.Stdout.WriteString(strings.Repeat("x", 1<<20)); err != nil {
						os.Exit(1)
					}
				}
			case "flood":
				for {
					if _, err := os.Stdout.WriteString(`{"jsonrpc":"2.0","method":"progress","params":{"text":"x"}}` + "\n"); err != nil {
						os.Exit(1)
					}
				}
			case "session":
				if signedIn {
					reply(q.ID, `{"builds":[]}`)
					continue
				}
				fmt.Printf(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32001,"message":"the session has ended"}}`+"\n", q.ID)
			case "pages":
				pages++
				reply(q.ID, fmt.Sprintf(`{"builds":[],"next":"%d"}`, pages))
			case "hangs":
				time.Sleep(time.Hour)
			case "dies":
				fmt.Fprintln(os.Stderr, "harbour: the \x1b[31mcrane fell")
				os.Exit(3)
			case "twice":
				reply(q.ID, hello)
				reply(q.ID, hello)
				time.Sleep(time.Hour)
			case "not asked":
				reply(json.RawMessage("4711"), hello)
				time.Sleep(time.Hour)
			case "asks":
				fmt.Println(`{"jsonrpc":"2.0","id":1,"method":"ask","params":{"text":"Your password","secret":true,"why":"password"}}`)
			case "child":
				child := exec.Command(os.Args[0])
				child.Env = append(os.Environ(), asAdapter+"=none/hangs")
				child.Stdout, child.Stderr = os.Stdout, os.Stderr
				if child.Start() == nil {
					_ = os.WriteFile("child", []byte(strconv.Itoa(child.Process.Pid)), 0o600)
				}
				reply(q.ID, hello)
			case "error":
				fmt.Printf(`{"jsonrpc":"2.0","id":%s,"error":{"code":-32002,"message":"not \u001b[1myours","data":{"components":["night-shift"]}}}`+"\n", q.ID)
			}
			continue
		}
		reply(q.ID, map[string]string{
			"initialize": hello, "signIn": `{"user":"ada"}`,
			"builds":   `{"builds":[{"id":"1","date":"2031-08-05T17:00:00Z","components":[{"name":"base","manifest":"1"}],"more":"unknown"}]}`,
			"manifest": `{"files":[{"path":"a","size":3,"digest":"sha1:a9993e364706816aba3e25717850c26c9cd0d89d"}]}`,
			"content":  `{"places":[{"path":"a","file":"y"}]}`,
		}[q.Method])
	}
}

// speak goes through the protocol with an adapter that misbehaves so.
func speak(t *testing.T, how string, silence time.Duration) (*Client, error) {
	t.Helper()
	t.Setenv(asAdapter, how)
	self, err := os.Executable()
	require.NoError(t, err)
	c, err := Start(t.Context(), self, t.TempDir(), Options{Silence: silence})
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	if _, err := c.Initialize(t.Context(), InitializeParams{Game: "quay", Address: "x"}); err != nil {
		return c, err
	}
	if _, err := c.Builds(t.Context(), "public"); err != nil {
		return c, err
	}
	if _, err := c.Manifest(t.Context(), "1", "base", "1"); err != nil {
		return c, err
	}
	_, _, err = c.Content(t.Context(), ContentParams{Component: "base", Manifest: "1", Want: []Want{{Path: "a", Pieces: []int{0}}}}, func(string) bool { return false })
	return c, err
}

func TestAnAdapterThatKeepsToTheProtocol(t *testing.T) {
	_, err := speak(t, "none", time.Minute)
	require.NoError(t, err)
}

func TestWhatAnAdapterMustNotSay(t *testing.T) {
	n := 0
	for method, ways := range answers {
		for way := range ways {
			_, err := speak(t, method+"/"+way, time.Minute)
			require.ErrorIs(t, err, ErrProtocol, "%s/%s", method, way)
			oneLine(t, err)
			n++
		}
	}
	require.Equal(t, 42, n)
}

// oneLine checks that an error is one line for people that names the adapter.
func oneLine(t *testing.T, err error) {
	t.Helper()
	require.Contains(t, err.Error(), "the adapter ")
	require.NotContains(t, err.Error(), "\n")
	require.NotContains(t, err.Error(), "\x1b")
	require.Less(t, len(err.Error()), 1000)
}

func TestAnAdapterThatMisbehaves(t *testing.T) {
	for way, want := range map[string]error{
		"rubbish": ErrProtocol, "endless line": ErrProtocol, "half": ErrEnded, "hangs": ErrSilent, "dies": ErrEnded, "not asked": ErrProtocol, "asks": ErrProtocol,
	} {
		for _, method := range []string{"initialize", "content"} {
			began := time.Now()
			_, err := speak(t, method+"/"+way, 2*time.Second)
			require.ErrorIs(t, err, want, "%s/%s", method, way)
			oneLine(t, err)
			require.Less(t, time.Since(began), 30*time.Second)
		}
	}
	_, err := speak(t, "builds/dies", time.Minute)
	require.ErrorContains(t, err, "in the middle of builds: harbour: the  [31mcrane fell")
	_, err = speak(t, "initialize/twice", time.Minute)
	require.ErrorIs(t, err, ErrProtocol, "the next request meets it")
}

func TestPagesWithoutEndEnd(t *testing.T) {
	_, err := speak(t, "builds/pages", time.Minute)
	require.ErrorIs(t, err, ErrProtocol)
	require.ErrorContains(t, err, "the pages of builds do not end")
}

func TestAFloodOfMessagesEnds(t *testing.T) {
	mostMessages = 20_000
	defer func() { mostMessages = maxMessages }()
	_, err := speak(t, "builds/flood", time.Minute)
	require.ErrorIs(t, err, ErrProtocol)
	require.ErrorContains(t, err, "more than 20000 messages")
}

func TestAnAnswerThatIsAnError(t *testing.T) {
	_, err := speak(t, "manifest/error", time.Minute)
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, CodeNotOwned, e.Code)
	require.Equal(t, []string{"night-shift"}, e.Components)
	oneLine(t, err)
	require.True(t, Is(err, CodeNotOwned))
}

// TestAnEndedSessionIsBegunAgain: at a terminal the player signs in, once; without one nobody is asked.
func TestAnEndedSessionIsBegunAgain(t *testing.T) {
	t.Setenv(asAdapter, "builds/session")
	self, err := os.Executable()
	require.NoError(t, err)
	for _, offer := range []bool{true, false} {
		asked := 0
		ask := func(_ context.Context, q Question) (string, error) {
			asked++
			return "ada", nil
		}
		c, err := Start(t.Context(), self, t.TempDir(), Options{Silence: time.Minute, Ask: ask, Offer: offer})
		require.NoError(t, err)
		_, err = c.Initialize(t.Context(), InitializeParams{})
		require.NoError(t, err)
		_, err = c.Builds(t.Context(), "public")
		require.Equal(t, offer, err == nil, "%v", err)
		require.Equal(t, offer, asked == 1)
		require.NoError(t, c.Close())
	}
}

func TestChildrenEndWithTheAdapter(t *testing.T) {
	if runtime.GOOS == "windows" {
		t.Skip("processes are looked for in another way here")
	}
	c, err := speak(t, "initialize/child", time.Minute)
	require.NoError(t, err)
	text, err := os.ReadFile(filepath.Join(c.cmd.Dir, "child"))
	require.NoError(t, err)
	began := time.Now()
	require.NoError(t, c.Close())
	require.Less(t, time.Since(began), exitTime+5*time.Second)
	require.Eventually(t, func() bool {
		stat, err := os.ReadFile("/proc/" + string(text) + "/stat")
		return err != nil || strings.Contains(string(stat), ") Z ")
	}, 10*time.Second, 10*time.Millisecond)
}

func TestWhatIsNoAdapter(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "text.txt")
	require.NoError(t, os.WriteFile(file, []byte("no program"), 0o600))
	for _, name := range []string{filepath.Join(dir, "none"), dir, "never-heard-of-it"} {
		_, err := Find(name, dir)
		require.ErrorIs(t, err, ErrProgram, name)
	}
	if runtime.GOOS != "windows" {
		_, err := Find(file, dir)
		require.ErrorIs(t, err, ErrProgram)
		require.ErrorContains(t, err, "not executable")
		named := filepath.Join(dir, "morvant-adapter-crane")
		require.NoError(t, os.WriteFile(named, []byte("#!/bin/sh\n"), 0o700))
		found, err := Find("crane", dir)
		require.NoError(t, err)
		require.Equal(t, named, found)
	}
}

func TestAnEndedCommandEndsTheAdapter(t *testing.T) {
	t.Setenv(asAdapter, "builds/hangs")
	self, err := os.Executable()
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	c, err := Start(ctx, self, t.TempDir(), Options{})
	require.NoError(t, err)
	defer c.Close()
	_, err = c.Initialize(ctx, InitializeParams{})
	require.NoError(t, err)
	time.AfterFunc(100*time.Millisecond, cancel)
	_, err = c.Builds(ctx, "public")
	require.ErrorIs(t, err, context.Canceled)
}
