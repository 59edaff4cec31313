package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// judge has axe-core check a page, in a browser of a width and with a colour scheme. It returns
// the rules that the page violates, with the elements.
func judge(t *testing.T, page, axe string, width string, dark bool) []string {
	t.Helper()
	html, err := os.ReadFile(page)
	require.NoError(t, err)
	judged := filepath.Join(t.TempDir(), "judged.html")
	script := "<script>" + axe + `</script><script>axe.run().then(function (r) {
		const said = document.createElement("pre");
		said.id = "said";
		said.textContent = JSON.stringify(r.violations.map(function (v) { return v.id + ": " + v.nodes.map(function (n) { return n.html; }).join(" "); }));
		document.body.replaceChildren(said);
	});</script></body>`
	text := regexp.MustCompile(`<meta http-equiv="Content-Security-Policy".*?>`).ReplaceAllString(string(html), "") // which would not let the judge in
	require.NoError(t, os.WriteFile(judged, []byte(strings.Replace(text, "</body>", script, 1)), 0o600))
	args := []string{"--headless", "--no-sandbox", "--disable-gpu", "--virtual-time-budget=20000", "--window-size=" + width, "--user-data-dir=" + t.TempDir()}
	if dark {
		args = append(args, "--blink-settings=preferredColorScheme=0")
	}
	out, err := exec.Command("chromium", append(args, "--dump-dom", "file://"+judged)...).Output()
	require.NoError(t, err)
	m := regexp.MustCompile(`(?s)<pre id="said">(.*?)</pre>`).FindSubmatch(out)
	require.NotNil(t, m, page)
	var all []string
	require.NoError(t, json.Unmarshal([]byte(strings.NewReplacer("&lt;", "<", "&gt;", ">", "&amp;", "&").Replace(string(m[1]))), &all))
	return all
}

// The pages that are handed over can be read by everybody: wide and narrow, light and dark.
func TestPagesAreAccessible(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile(filepath.Join(os.Getenv("MINTBATCH_NODE"), "node_modules", "axe-core", "axe.min.js"))
	if err != nil {
		t.Skip("MINTBATCH_NODE names no folder with axe-core")
	}
	if _, err := exec.LookPath("chromium"); err != nil {
		t.Skip("there is no chromium")
	}
	dir, _ := served(t, 1000)
	_, err = command(t, dir, "mintbatch", "mint", "--yes")
	require.NoError(t, err)
	_, err = command(t, dir, "mintbatch", "report", "--html", "all.html", "--cards", "cards.html", "--by", "owner", "pages")
	require.NoError(t, err)
	_, _ = command(t, dir, "mintbatch", "template", "inspect", "deb12-base", "--html", "inspect.html") // which finds something
	for _, c := range []struct {
		page, width string
		dark        bool
	}{{"all.html", "1280,800", false}, {"all.html", "1280,800", true}, {"all.html", "500,844", false}, {"cards.html", "1280,800", true}, {"cards.html", "500,844", false}, {"pages/index.html", "500,844", true}, {"inspect.html", "1280,800", true}, {"inspect.html", "500,844", false}} {
		assert.Empty(t, judge(t, filepath.Join(dir, c.page), string(axe), c.width, c.dark), "%v", c)
	}
}
