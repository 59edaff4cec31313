package mail

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written is a message with headers and a body, its lines as the wire has them.
func written(lines ...string) string { return strings.Join(lines, "\r\n") + "\r\n" }

func multipart(parts ...string) string {
	var b strings.Builder
	b.WriteString(written("From: Anna Lund <Anna@Brackwater.example>", "Subject: =?utf-8?q?gauges_f=C3=BCr_n=C3=A4chste_Woche?=", "Message-ID: <1@brackwater.example>", `Content-Type: multipart/mixed; boundary="b"`, ""))
	for _, p := range parts {
		b.WriteString(written("--b", p))
	}
	return b.String() + written("--b--")
}

func TestRead(t *testing.T) {
	m, err := Read(strings.NewReader(multipart(
		written("Content-Type: text/plain; charset=iso-8859-1", "Content-Transfer-Encoding: quoted-printable", "", "", "> quoted", "bitte f=FCr Montag", "Gru=DF"),
		written("Content-Type: text/csv", "Content-Disposition: attachment; filename*0*=utf-8''Pegel%20; filename*1=Nord.csv", "Content-Transfer-Encoding: base64", "", "bWFjaGluZQpibXMtMQo="),
		written(`Content-Type: application/octet-stream; name="=?utf-8?b?w7xiZXJzaWNodC54bHN4?="`, "", "x"),
		written("Content-Type: application/ms-tnef", `Content-Disposition: attachment; filename="winmail.dat"`, "", "\x78\x9f\x3e\x22rubbish"),
	)))
	require.NoError(t, err)
	assert.Equal(t, "anna@brackwater.example", m.From)
	assert.Equal(t, "gauges für nächste Woche", m.Subject)
	assert.Equal(t, "1@brackwater.example", m.ID)
	assert.Equal(t, "bitte für Montag", m.FirstLine())
	assert.False(t, m.Automatic)
	var names []string
	for _, f := range m.Files {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"Pegel Nord.csv", "übersicht.xlsx", "winmail.dat"}, names)
	assert.Equal(t, "machine\nbms-1\n", string(m.Files[0].Content))
}

// What nobody has sent is never answered.
func TestAutomatic(t *testing.T) {
	for header, automatic := range map[string]bool{
		"Auto-Submitted: auto-replied": true, "Auto-Submitted: no": false, "Precedence: bulk": true, "List-Id: <all.brackwater.example>": true, "Return-Path: <>": true,
		"X-Spam: no": false, "Content-Type: multipart/report; report-type=delivery-status; boundary=b": true, "Return-Path: <anna@brackwater.example>": false,
	} {
		m, err := Read(strings.NewReader(written("From: anna@brackwater.example", header, "", "--b--")))
		require.NoError(t, err, header)
		assert.Equal(t, automatic, m.Automatic, header)
	}
	m, err := Read(strings.NewReader(written("From: Mail Delivery System <Mailer-Daemon@brackwater.example>", "", "sorry")))
	require.NoError(t, err)
	assert.True(t, m.Automatic)
}

// Whatever somebody names a file, it is a name and no path.
func TestFileNames(t *testing.T) {
	for from, to := range map[string]string{
		`../../etc/passwd.csv`: "passwd.csv", `C:\temp\a.csv`: "a.csv", "a\tb.csv": "a_b.csv", ".hidden.csv": "hidden.csv", `..`: "", `x/`: "x", "a<b>.csv": "a_b_.csv", "--save=x.csv": "save=x.csv",
		strings.Repeat("n", 200) + ".xlsx": strings.Repeat("n", 70) + ".xlsx", "a\u202evsc.exe.csv": "a_vsc.exe.csv",
	} {
		m, err := Read(strings.NewReader(multipart(written("Content-Type: text/csv", fmt.Sprintf(`Content-Disposition: attachment; filename="%s"`, strings.ReplaceAll(from, `\`, `\\`)), "", "x"))))
		require.NoError(t, err, from)
		got := ""
		if len(m.Files) > 0 {
			got = m.Files[0].Name
		}
		assert.Equal(t, to, got, from)
	}
}

func TestHostile(t *testing.T) {
	nested := "x"
	for range 40 {
		nested = written(`Content-Type: multipart/mixed; boundary="b"`, "", "--b", nested, "--b--")
	}
	for name, text := range map[string]string{
		"no sender":      written("Subject: x", "", "x"),
		"two senders":    written("From: a@x.example, b@x.example", "", "x"),
		"two headers":    written("From: a@x.example", "From: b@x.example", "", "x"),
		"no address":     written("From: anna", "", "x"),
		"10,000 parts":   multipart(strings.Split(strings.Repeat("Content-Type: text/plain\r\n\r\nx\n", 10_000), "\n")...),
		"parts in parts": written("From: a@x.example") + nested,
		"long header":    written("From: a@x.example", "Subject: "+strings.Repeat("x", 1<<20), "", "x"),
		"large":          written("From: a@x.example", "", strings.Repeat("x\r\n", MostBytes/3+1)),
	} {
		_, err := Read(strings.NewReader(text))
		assert.ErrorIs(t, err, ErrMail, name)
	}
	big, err := Read(strings.NewReader(multipart(written("Content-Type: text/csv", `Content-Disposition: attachment; filename="a.csv"`, "", strings.Repeat("machine\n", MostFile/8+1)))))
	require.NoError(t, err)
	assert.True(t, big.Files[0].TooLong)
}

// What is written is read again, whatever stands in it, and no line of it becomes a header.
func TestWrite(t *testing.T) {
	a := Answer{ID: "x-1@ledger", At: time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC), From: "mint@brackwater.example", FromName: "Mint Batch", To: []string{"anna@brackwater.example"},
		Subject: "würde\r\nBcc: all@brackwater.example", References: []string{"0@b.example", "1@b.example"}, Text: "line\n.\nFrom here on\n", HTML: "<p>ü</p>", Files: []File{{Name: "Pegel für Nord.xlsx", Content: []byte{0, 1, 0xff}}}}
	raw, err := a.Write()
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "\nBcc:")
	m, err := Read(bytes.NewReader(raw))
	require.NoError(t, err)
	assert.Equal(t, "würde Bcc: all@brackwater.example", m.Subject)
	assert.Equal(t, "x-1@ledger", m.ID)
	assert.True(t, m.Automatic, "which no other program answers")
	assert.Equal(t, "line\n.\nFrom here on\n", strings.ReplaceAll(m.Text, "\r\n", "\n"))
	require.Len(t, m.Files, 1)
	assert.Equal(t, a.Files[0], m.Files[0])
	assert.Equal(t, []string{"0@b.example", "1@b.example", "1@b.example"}, m.References)
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(multipart(written("Content-Type: text/csv; name=a.csv", "Content-Transfer-Encoding: base64", "", "eA=="))))
	f.Add([]byte(written("From: a@b.example", "", "x")))
	f.Fuzz(func(t *testing.T, raw []byte) {
		m, err := Read(bytes.NewReader(raw))
		if err != nil {
			return
		}
		for _, file := range m.Files {
			if strings.ContainsAny(file.Name, "/\\\x00\n") || file.Name == ".." {
				t.Fatalf("%q", file.Name)
			}
		}
		if strings.ContainsAny(m.From, " \r\n") {
			t.Fatalf("%q", m.From)
		}
	})
}
