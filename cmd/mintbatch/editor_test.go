package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"net/textproto"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// editor talks to a language server (Language Server Protocol 3.17) as an editor does.
type editor struct {
	t     *testing.T
	to    io.Writer
	from  *bufio.Reader
	asked int
}

type rpc struct {
	ID     *int            `json:"id,omitempty"`
	Method string          `json:"method,omitempty"`
	Params any             `json:"params,omitempty"`
	Result json.RawMessage `json:"result,omitempty"`
}

func (e *editor) send(m map[string]any) {
	m["jsonrpc"] = "2.0"
	text, err := json.Marshal(m)
	require.NoError(e.t, err)
	_, err = fmt.Fprintf(e.to, "Content-Length: %d\r\n\r\n%s", len(text), text)
	require.NoError(e.t, err)
}

// receive reads a message and answers what the server asks.
func (e *editor) receive() rpc {
	header, err := textproto.NewReader(e.from).ReadMIMEHeader()
	require.NoError(e.t, err)
	n, err := strconv.Atoi(header.Get("Content-Length"))
	require.NoError(e.t, err)
	text := make([]byte, n)
	_, err = io.ReadFull(e.from, text)
	require.NoError(e.t, err)
	var m rpc
	require.NoError(e.t, json.Unmarshal(text, &m))
	if m.Method != "" && m.ID != nil {
		e.send(map[string]any{"id": *m.ID, "result": []any{map[string]any{"completion": true, "hover": true, "validate": true}, nil, nil, nil, nil}})
	}
	return m
}

// ask makes a request and waits for its answer.
func (e *editor) ask(method string, params any) json.RawMessage {
	e.asked++
	e.send(map[string]any{"id": e.asked, "method": method, "params": params})
	for {
		if m := e.receive(); m.Method == "" && m.ID != nil && *m.ID == e.asked {
			return m.Result
		}
	}
}

// show opens the file with a text, and returns what the server finds in it.
func (e *editor) show(uri, text string) []string {
	e.asked++
	e.send(map[string]any{"method": "textDocument/didOpen", "params": map[string]any{"textDocument": map[string]any{"uri": uri, "languageId": "yaml", "version": e.asked, "text": text}}})
	for {
		m := e.receive()
		if m.Method != "textDocument/publishDiagnostics" {
			continue
		}
		var found struct {
			Diagnostics []struct{ Message string }
		}
		params, _ := json.Marshal(m.Params)
		require.NoError(e.t, json.Unmarshal(params, &found))
		all := []string{}
		for _, d := range found.Diagnostics {
			all = append(all, d.Message)
		}
		return all
	}
}

// The setup of a newcomer in an editor: a language server for YAML finds nothing wrong with
// the starter, completes keys and words, explains a key, and marks a wrong one.
func TestTheSetupInAnEditor(t *testing.T) {
	t.Parallel()
	server := filepath.Join(os.Getenv("MINTBATCH_NODE"), "node_modules", "yaml-language-server", "bin", "yaml-language-server")
	if _, err := os.Stat(server); err != nil {
		t.Skip("MINTBATCH_NODE names no folder with yaml-language-server")
	}
	dir := t.TempDir()
	_, err := command(t, dir, "mintbatch", "new", "leg")
	require.NoError(t, err)
	path := filepath.Join(dir, "leg", "mintbatch.yaml")
	starter, err := os.ReadFile(path)
	require.NoError(t, err)

	c := exec.CommandContext(t.Context(), "node", server, "--stdio")
	to, err := c.StdinPipe()
	require.NoError(t, err)
	from, err := c.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, c.Start())
	stuck := time.AfterFunc(time.Minute, func() { _ = c.Process.Kill() })
	defer stuck.Stop()
	e := &editor{t: t, to: to, from: bufio.NewReader(from)}
	e.ask("initialize", map[string]any{"processId": os.Getpid(), "rootUri": "file://" + dir, "capabilities": map[string]any{
		"textDocument": map[string]any{"completion": map[string]any{"completionItem": map[string]any{"snippetSupport": true}}, "hover": map[string]any{"contentFormat": []string{"plaintext"}}}}})
	e.send(map[string]any{"method": "initialized", "params": map[string]any{}})
	uri := "file://" + path
	at := func(text, mark string) map[string]any {
		before, _, found := strings.Cut(text, mark)
		require.True(t, found)
		lines := strings.Split(before, "\n")
		return map[string]any{"textDocument": map[string]any{"uri": uri}, "position": map[string]any{"line": len(lines) - 1, "character": len(lines[len(lines)-1])}}
	}
	assert.Empty(t, e.show(uri, string(starter)))
	said := string(e.ask("textDocument/hover", at(string(starter), "templates:")))
	assert.Contains(t, said, "the templates to clone machines from")

	wrong := string(starter) + "\nlimts: {confirm: 5m}\n"
	marked := ""
	for range 5 { // what it says may be about the text before
		if marked = strings.Join(e.show(uri, wrong), "\n"); marked != "" {
			break
		}
	}
	assert.Contains(t, marked, "limts")

	head := "# yaml-language-server: $schema=mintbatch.schema.json\nmintbatch: 1\n"
	open := head + "presets:\n  deck:\n    po|\n"
	e.show(uri, strings.Replace(open, "|", "", 1))
	words := string(e.ask("textDocument/completion", at(open, "|")))
	assert.Contains(t, words, `"label":"power"`)
	assert.Contains(t, words, `"label":"packages"`)
	assert.Contains(t, words, "stay-on, off or confirm-then-off")

	open = head + "templates:\n  deb12:\n    guest: |\n"
	e.show(uri, strings.Replace(open, "|", "", 1))
	words = string(e.ask("textDocument/completion", at(open, "|")))
	assert.Contains(t, words, `"label":"linux"`)
	assert.Contains(t, words, `"label":"windows"`)
}
