package layout

import (
	"strings"
	"testing"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var columns = []Column{{"work", Whole, 0}, {"machine", Whole, 0}, {"site", Whole, 1}, {"template", Middle, 2}, {"addresses", Words, 0}, {"owner", Middle, 3}, {"why", Below, 0}}

var cells = [][]string{
	{"new", "bms-sonar-01", "quay", "deb12-base", "198.51.100.11", "sonar desk", ""},
	{"remake", "bms-" + strings.Repeat("x", 59), "vessel", "deb12-with-a-long-name-of-its-own", "198.51.100.12 2001:db8:b0a7:1234:5678:9abc:def0:1234 dhcp", "海図室 ångström", "the template is deb12-base instead of deb11-base, which only a new clone changes"},
}

func print(t *testing.T, width int, wide bool, rows [][]string) string {
	t.Helper()
	var b strings.Builder
	require.NoError(t, Table{Columns: columns, Cells: rows, Width: width, Wide: wide}.Print(&b))
	return b.String()
}

// No line is longer than the terminal, and of names, addresses and reasons nothing is lost;
// wide, of nothing.
func TestEveryWidth(t *testing.T) {
	for _, rows := range [][][]string{cells[:1], cells} {
		for width := 20; width < 260; width++ {
			for _, wide := range []bool{false, true} {
				out := print(t, width, wide, rows)
				for _, line := range strings.Split(out, "\n") {
					assert.LessOrEqual(t, text.StringWidthWithoutEscSequences(line), width, "%q", line)
				}
				together := strings.Join(strings.Fields(out), "")
				for _, row := range rows {
					for i, c := range row {
						if wide || columns[i].Level == 0 {
							for _, word := range strings.Fields(c) {
								if width >= 70 || len(word) < 20 {
									assert.Contains(t, together, word, "at %d", width)
								}
							}
						}
					}
				}
			}
		}
	}
}

func TestWhatHasRoom(t *testing.T) {
	assert.Equal(t, `work  machine       site  template    addresses      owner
new   bms-sonar-01  quay  deb12-base  198.51.100.11  sonar desk
`, print(t, 80, false, cells[:1]))
	assert.Equal(t, `work  machine       site  template    addresses
new   bms-sonar-01  quay  deb12-base  198.51.100.11
`, print(t, 58, false, cells[:1]))
	assert.Equal(t, `work  machine       site  addresses
new   bms-sonar-01  quay  198.51.100.11
`, print(t, 40, false, cells[:1]))
	assert.Equal(t, `work  machine       site  addresses
new   bms-sonar-01  quay  198.51.100.11
      template deb12-base, owner sonar
      desk
`, print(t, 40, true, cells[:1]))
	assert.Equal(t, "deb1...e-09", Shorten("deb12-with-a-long-name-09", 11))
	assert.Contains(t, print(t, 0, false, cells), "dhcp  海図室 ångström  the template is")
}
