//go:build real

package main

import (
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"mintbatch/internal/enrol/dnstest"
)

// mailed is a folder with a setup whose requests come by mail.
type mailed struct {
	*mailServer
	dir string
}

func newMailed(t *testing.T, more, rule string, faults ...string) *mailed {
	t.Helper()
	m := &mailed{startMail(t), ""}
	m.dir, _ = served(t, 200, faults...)
	setup, err := os.ReadFile(filepath.Join(m.dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, m.dir, "mintbatch.yaml", string(setup)+m.setup(more, rule))
	return m
}

// arrives waits until so many messages have come to an address, and returns the last.
func (m *mailed) arrives(t *testing.T, address string, n int) string {
	t.Helper()
	var all []string
	require.Eventually(t, func() bool { all = m.got(t, address); return len(all) >= n }, 20*time.Second, 100*time.Millisecond, "%s has not got %d messages", address, n)
	require.Len(t, all, n, address)
	return all[n-1]
}

// intake looks once at what has come.
func (m *mailed) intake(t *testing.T) string {
	t.Helper()
	out, err := command(t, m.dir, "mintbatch", "intake", "--once")
	require.NoError(t, err, out)
	return out
}

// Mails of people become machines: what is wrong is answered in their thread, an approver's code lets them be made, and nobody else's
// does. What no person has sent, or whose sender is not known, is left alone.
func TestRequestsByMail(t *testing.T) {
	t.Parallel()
	dns, err := dnstest.BIND(t.TempDir())
	if err != nil {
		t.Skip("skipped: there is no BIND")
	}
	defer dns.Stop()
	m := newMailed(t, fmt.Sprintf("dkim: on, resolver: %q", dns.Address), `from: "*@brackwater.example", subject: machines, presets: tide-*, approvers: boss@brackwater.example, set: {owner: "{sender}", site: quay}`)
	key, err := os.ReadFile(filepath.Join(m.mailServer.dir, "dkim.key"))
	require.NoError(t, err)
	public := exec.Command("openssl", "rsa", "-pubout")
	public.Stdin = strings.NewReader(string(key))
	out, err := public.Output()
	require.NoError(t, err)
	block, _ := pem.Decode(out)
	record := "v=DKIM1; k=rsa; p=" + base64.StdEncoding.EncodeToString(block.Bytes)
	require.NoError(t, dns.Update(fmt.Sprintf("add mail._domainkey.brackwater.example 60 TXT %q %q", record[:200], record[200:])))

	write(t, m.dir, "good.csv", "machine,preset,notes\nbms-m-[1-2],tide-gauge,\"=HYPERLINK(\"\"http://x\"\")\"\n")
	write(t, m.dir, "bad.csv", "machine,preset\nbms-m-1,tide-guage\n")
	write(t, m.dir, "logo.png", "x")
	anna, boss := "anna@brackwater.example", "boss@brackwater.example"
	m.send(t, m.dir, "Anna Lund <anna@brackwater.example>", "machines for Monday", "please", "bad.csv", "logo.png")
	m.arrives(t, "mint@brackwater.example", 1)
	assert.Contains(t, m.intake(t), "(bad.csv): faulty: 1 error")
	answer := m.arrives(t, anna, 1)
	assert.Contains(t, answer, "Re: machines for Monday\n<")
	assert.Contains(t, answer, "['bad-findings.xlsx']")
	assert.Contains(t, answer, "unknown preset \"tide-guage\"")

	office := exec.Command("soffice", "--headless", "-env:UserInstallation=file://"+m.dir+"/profile", "--convert-to", "xlsx", "good.csv")
	office.Dir = m.dir
	said, err := office.CombinedOutput()
	require.NoError(t, err, "%s", said)
	m.send(t, m.dir, anna, "machines for Monday", "now it is right", "good.xlsx")
	m.arrives(t, "mint@brackwater.example", 2) // with the copy of the answer
	assert.Contains(t, m.intake(t), "(good.xlsx): waiting")
	assert.Contains(t, m.arrives(t, anna, 2), "They are made once somebody has approved this.")
	asked := m.arrives(t, boss, 1)
	code := regexp.MustCompile(`[A-Z2-7]{4}-[A-Z2-7]{4}`).FindString(asked)
	require.NotEmpty(t, code, asked)
	assert.NotContains(t, m.arrives(t, anna, 2), code)

	// The code of somebody else, a forged sender, and a quoted code are none.
	m.send(t, m.dir, anna, "Re: x", code)
	m.send(t, m.dir, "boss@elsewhere.example", "Re: x", code)
	m.send(t, m.dir, boss, "Re: x", "Really?\n\n> "+code)
	time.Sleep(2 * time.Second)
	m.intake(t)
	assert.Empty(t, sandboxMachines(m.dir))
	m.send(t, m.dir, boss, "Re: Request", strings.ToLower(code)+"\n\nBoss")
	require.Eventually(t, func() bool { return strings.Contains(m.intake(t), "(good.xlsx): done") }, 20*time.Second, 200*time.Millisecond)
	made := m.arrives(t, anna, 3)
	assert.Contains(t, made, "['good-machines.html', 'good-made.xlsx']")
	assert.Contains(t, made, "log in by: ssh survey@198.51.100.")
	assert.ElementsMatch(t, []string{"quay/bms-m-1", "quay/bms-m-2"}, sandboxMachines(m.dir))
	out2, err := command(t, m.dir, "mintbatch", "list", "--each", "--columns", "machine,owner")
	require.NoError(t, err)
	assert.Contains(t, out2, anna)

	// What nobody has sent, what says nothing of machines, what is not signed by its sender's domain, and rubbish are left unanswered.
	before := len(m.got(t, anna))
	for _, headers := range []string{"From: anna@brackwater.example\nSubject: machines\nAuto-Submitted: auto-replied", "From: anna@brackwater.example\nSubject: machines\nPrecedence: bulk", "From: anna@brackwater.example\nSubject: holidays"} {
		m.raw(t, headers+"\nContent-Type: text/csv; name=a.csv\n\nmachine,preset\nbms-m-7,tide-gauge\n")
	}
	m.raw(t, "Subject: machines\n\nno sender\n")
	m.raw(t, "From: anna@brackwater.example\nFrom: boss@brackwater.example\nSubject: machines\nContent-Type: text/csv; name=a.csv\n\nmachine\nbms-m-7\n")
	time.Sleep(3 * time.Second)
	m.intake(t)
	time.Sleep(time.Second)
	assert.Len(t, m.got(t, anna), before)
	assert.Len(t, sandboxMachines(m.dir), 2)
}

// Owners are told once that machines are near their date, and have a later one when they say so, within what the setup allows.
func TestLeasesByMail(t *testing.T) {
	t.Parallel()
	m := newMailed(t, "unverified: on", "from: nobody@elsewhere.example")
	setup, err := os.ReadFile(filepath.Join(m.dir, "mintbatch.yaml"))
	require.NoError(t, err)
	write(t, m.dir, "mintbatch.yaml", strings.Replace(string(setup), "requests:\n", "requests:\n  warn: 168h\n  extend: 2160h\n", 1))
	day := func(n int) string { return time.Now().AddDate(0, 0, n).Format(time.DateOnly) }
	sheet := fmt.Sprintf("machine,preset,owner,until\nbms-l-[1-2],tide-gauge,Anna@brackwater.example,%s\nbms-l-3,tide-gauge,Anna@brackwater.example,%s\nbms-l-4,tide-gauge,tide desk,%s\n", day(3), day(30), day(3))
	write(t, m.dir, "machines.csv", sheet)
	out, err := command(t, m.dir, "mintbatch", "mint", "--yes")
	require.NoError(t, err, out)
	anna := "anna@brackwater.example"
	out, err = command(t, m.dir, "mintbatch", "sweep", "--stop", "--yes")
	require.NoError(t, err, out)
	assert.Contains(t, out, "anna@brackwater.example is warned: bms-l-[1-2] until "+day(3))
	warning := m.arrives(t, anna, 1)
	assert.Contains(t, warning, "machines: bms-l-[1-2]")
	assert.Contains(t, warning, "The latest day is "+day(90))
	m.intake(t)
	m.arrives(t, anna, 1)
	until := func() string {
		out, err := command(t, m.dir, "mintbatch", "list", "--each", "--columns", "machine,until", "bms-l-1")
		require.NoError(t, err, out)
		return out
	}
	id := m.id(t, anna)
	reply := func(from, references, text string) {
		m.raw(t, fmt.Sprintf("From: %s\nSubject: Re: machines\nMessage-ID: <%d@x.example>\nIn-Reply-To: %s\n\n%s\n", from, time.Now().UnixNano(), references, text))
		time.Sleep(2 * time.Second)
		m.intake(t)
	}
	reply("eve@brackwater.example", id, "extend to "+day(60))
	reply(anna, "<"+strings.SplitN(id[1:], ".", 2)[0]+".GUESSED@brackwater.example>", "extend to "+day(60))
	assert.Contains(t, until(), day(3))
	reply(anna, id, "extend to "+day(91))
	assert.Contains(t, m.arrives(t, anna, 2), "no day that you may extend to")
	assert.Contains(t, until(), day(3))
	reply(anna, id, "Extend to "+day(60)+"\n\nthanks")
	assert.Contains(t, m.arrives(t, anna, 3), "bms-l-[1-2]: until "+day(60))
	assert.Contains(t, until(), day(60))
	out, err = command(t, m.dir, "mintbatch", "mint", "--yes")
	require.NoError(t, err, out)
	assert.Contains(t, until(), day(60), "the row still says the first date")
}

// id is that of the first message that has come to an address.
func (m *mailServer) id(t *testing.T, address string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(m.dir, "mail", address, "*", "[0-9]*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	raw, err := os.ReadFile(files[0])
	require.NoError(t, err)
	found := regexp.MustCompile(`(?im)^message-id:\s*(<[^>]+>)`).FindSubmatch(raw)
	require.NotNil(t, found)
	return string(found[1])
}

// While no mail server answers, answers wait; what fails is told to administrators with its cause and to the sender without it; who has no rule
// is answered what the setup says, once.
func TestMailThatWaits(t *testing.T) {
	t.Parallel()
	m := newMailed(t, "unverified: on", "from: anna@brackwater.example, unapproved: 9, set: {site: quay}, kinds: csv", "fail:100%")
	setup, err := os.ReadFile(filepath.Join(m.dir, "mintbatch.yaml"))
	require.NoError(t, err)
	text := strings.Replace(string(setup), "requests:\n", "requests:\n  administrators: root@brackwater.example\n  others: Please ask the survey desk.\n", 1)
	write(t, m.dir, "mintbatch.yaml", strings.Replace(text, "smtp://127.0.0.1:"+m.smtp, "smtp://127.0.0.1:1", 1))
	write(t, m.dir, "good.csv", "machine,preset,store\nbms-w-1,tide-gauge,\n")
	var many []string
	for i := range 20 {
		name := fmt.Sprintf("holiday-%d.jpg", i)
		write(t, m.dir, name, strings.Repeat("x", 10_000))
		many = append(many, name)
	}
	m.send(t, m.dir, "anna@brackwater.example", "please", "now", append(many, "good.csv")...)
	m.send(t, m.dir, "carl@brackwater.example", "please", "now", "good.csv")
	require.Eventually(t, func() bool { return len(m.got(t, "mint@brackwater.example")) == 2 }, 20*time.Second, 100*time.Millisecond)
	for range 2 {
		out, err := command(t, m.dir, "mintbatch", "intake", "--once")
		require.Error(t, err, out)
		assert.Contains(t, out, "connection refused")
	}
	write(t, m.dir, "mintbatch.yaml", text)
	m.intake(t)
	anna := m.arrives(t, "anna@brackwater.example", 2)
	assert.Contains(t, anna, "1 of 1 machine could not be made yet")
	assert.NotContains(t, anna, "clone")
	cause := m.arrives(t, "root@brackwater.example", 1)
	assert.Contains(t, cause, "bms-w-1 at clone: ")
	assert.Contains(t, cause, "mintbatch request approve ")
	assert.Contains(t, m.arrives(t, "carl@brackwater.example", 1), "Please ask the survey desk.")
	m.intake(t)
	for address, n := range map[string]int{"anna": 2, "root": 1, "carl": 1} {
		m.arrives(t, address+"@brackwater.example", n)
	}
}

// raw hands in a message as it is.
func (m *mailServer) raw(t *testing.T, message string) {
	t.Helper()
	c := exec.Command("python3", "-c", "import sys, smtplib\nsmtplib.SMTP('127.0.0.1', int(sys.argv[1])).sendmail('x@brackwater.example', ['mint@brackwater.example'], sys.stdin.read().encode())", m.smtp)
	c.Stdin = strings.NewReader(message)
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
}

// Two intakes on one mailbox, killed at odd moments: each mail is answered once, and its machines are made once.
func TestMailIntakesThatAreKilled(t *testing.T) {
	t.Parallel()
	rounds := 2
	if whole() {
		rounds = 10
	}
	seed := uint64(time.Now().UnixNano())
	chance := rand.New(rand.NewPCG(seed, 0))
	m := newMailed(t, "unverified: on", "unapproved: 9, set: {site: quay}")
	write(t, m.dir, "bad.csv", "machine,preset\nbms-x,nothing\n")
	for round := range rounds {
		write(t, m.dir, "good.csv", fmt.Sprintf("machine,preset,network,address\nbms-r%d-[1-2],tide-gauge,survey,dhcp\n", round))
		m.send(t, m.dir, fmt.Sprintf("a%d@brackwater.example", round), "good", "x", "good.csv")
		m.send(t, m.dir, fmt.Sprintf("b%d@brackwater.example", round), "bad", "x", "bad.csv")
		require.Eventually(t, func() bool {
			waiting := strings.Join(m.got(t, "mint@brackwater.example"), "\n")
			return strings.Contains(waiting, "good.csv") && strings.Contains(waiting, "bad.csv")
		}, 20*time.Second, 100*time.Millisecond)
		for range 3 {
			var both sync.WaitGroup
			for range 2 {
				after := time.Duration(20+chance.IntN(700)) * time.Millisecond
				both.Go(func() {
					c := exec.Command("mintbatch", "intake", "--once")
					c.Dir = m.dir
					if c.Start() == nil {
						time.AfterFunc(after, func() { _ = c.Process.Kill() })
						_ = c.Wait()
					}
				})
			}
			both.Wait()
		}
		a, b := fmt.Sprintf("a%d@brackwater.example", round), fmt.Sprintf("b%d@brackwater.example", round)
		assert.Eventually(t, func() bool { m.intake(t); return len(m.got(t, a)) >= 2 && len(m.got(t, b)) >= 1 }, 30*time.Second, 200*time.Millisecond, "seed %d: %s %s", seed, m.got(t, a), m.got(t, b))
		m.intake(t)
		require.Len(t, sandboxMachines(m.dir), 2, "seed %d", seed)
		out, err := command(t, m.dir, "mintbatch", "retire", "--yes", "bms-*")
		require.NoError(t, err, out)
	}
	time.Sleep(2 * time.Second)
	m.intake(t)
	for round := range rounds {
		assert.Len(t, m.got(t, fmt.Sprintf("a%d@brackwater.example", round)), 2, "seed %d, round %d", seed, round)
		assert.Len(t, m.got(t, fmt.Sprintf("b%d@brackwater.example", round)), 1, "seed %d, round %d", seed, round)
	}
	assert.Empty(t, m.got(t, "mint@brackwater.example"), "seed %d: all is put away", seed)
}
