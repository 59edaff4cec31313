package machine

import (
	"math"
	"strings"
	"testing"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestParseSize(t *testing.T) {
	for text, want := range map[string]Size{
		"4GiB": 4 * GiB, "512 MiB": 512 * MiB, "20G": 20 * GiB, "1.5t": TiB + TiB/2, "8gb": 8 * GiB, "1024KiB": MiB,
		"1,5GiB": GiB + GiB/2, "4 096 MiB": 4 * GiB, "4\u00a0096\u202fMiB": 4 * GiB, "1,024,000KiB": 1000 * MiB, "1.024.000KiB": 1000 * MiB, "1,024.5KiB": 1024*KiB + 512,
		"1'024MiB": GiB, "0.500GiB": GiB / 2, "0,5T": TiB / 2,
	} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for text, why := range map[string]string{
		"4": "unit is missing", "": "number and a unit", "GiB": "number and a unit", "-4GiB": "number and a unit", "0GiB": "greater than zero",
		"4GiBs": "number and a unit", "4PiB": "number and a unit", "1e3GiB": "number and a unit", "9999999999TiB": "too large", "1.0001KiB": "whole number of bytes",
		"4 G B": "unknown unit", "1.2.3GiB": "number and a unit",
		"1.000GiB": "1.000 may mean 1000 or 1; write it without", "1,024MiB": "1,024 may mean 1024 or 1.024", "1,024,5MiB": "number and a unit", "4 09 MiB": "number and a unit",
	} {
		_, err := ParseSize(text)
		require.ErrorIs(t, err, ErrSize, text)
		assert.ErrorContains(t, err, why, text)
	}
	for _, size := range []Size{0, 1, KiB + 1, 3 * TiB} {
		text, _ := size.MarshalText()
		var back Size
		require.NoError(t, back.UnmarshalText(text))
		assert.Equal(t, size, back)
	}
}

func TestSpan(t *testing.T) {
	names := func(s string) []string {
		span, err := ParseSpan(s)
		require.NoError(t, err, s)
		var all []string
		for i := range span.Count() {
			all = append(all, span.Name(i))
		}
		return all
	}
	assert.Equal(t, []string{"bms-tide-01"}, names("bms-tide-01"))
	assert.Equal(t, []string{"n08", "n09", "n10"}, names("n[08-10]"))
	assert.Equal(t, []string{"n1", "n2", "n7"}, names("n[1-2,7]"))
	assert.Equal(t, []string{"bms-quay-1-x", "bms-quay-2-x", "bms-vessel-1-x", "bms-vessel-2-x"}, names("bms-[quay,vessel]-[1-2]-x"))

	huge, err := ParseSpan("n[1-999999999]")
	require.NoError(t, err)
	assert.Equal(t, 999999999, huge.Count())
	for _, bad := range []string{"n[", "n]", "n[]", "n[3-1]", "n[1-2", "n[[1-2]]", "n[1-99999999999999999999]", "n[1-9999999999]",
		strings.Repeat("[1-999999999]", 3)} {
		_, err := ParseSpan(bad)
		assert.ErrorIs(t, err, ErrSpan, bad)
	}
}

func TestNames(t *testing.T) {
	for _, good := range []string{"a", "bms-sonar-01", "9lives", "A-B", strings.Repeat("a", 63)} {
		assert.NoError(t, CheckLabel(good), good)
	}
	for _, bad := range []string{"", "-a", "a-", "a_b", "a.b", "tür", "a b", strings.Repeat("a", 64)} {
		assert.ErrorIs(t, CheckLabel(bad), ErrLabel, bad)
	}
	assert.NoError(t, CheckDomain("brackwater.example"))
	for _, bad := range []string{"", ".example", "brackwater..example", "example.", strings.Repeat("a.", 130) + "a"} {
		assert.ErrorIs(t, CheckDomain(bad), ErrDomain, bad)
	}
	for login, good := range map[string]bool{"survey": true, "_ops-2": true, "2ops": false, "-x": false, "Root": true, "jane.doe": true, "host$": true, "a/b": false, "é": false, "": false, "a b": false} {
		assert.Equal(t, good, CheckLogin(login) == nil, login)
	}
}

func TestIdentitiesAreStableAndApart(t *testing.T) {
	ledger, other := uuid.MustParse("00000000-0000-4000-8000-000000000001"), uuid.MustParse("00000000-0000-4000-8000-000000000002")
	key := Key{Site: "quay", Name: "bms-sonar-01"}
	for _, name := range []string{key.Name, "", strings.Repeat("n", 300)} {
		k := Key{Site: key.Site, Name: name}
		assert.Equal(t, uuid.NewSHA1(ledger, []byte("machine\x00"+k.Site+"\x00"+k.Name+"\x0012")), Identity(ledger, k, 12))
	}
	seen := map[string]bool{}
	for _, id := range []string{
		Identity(ledger, key, 1).String(), Identity(ledger, key, 2).String(), Identity(other, key, 1).String(),
		Identity(ledger, Key{Site: "vessel", Name: "bms-sonar-01"}, 1).String(),
		MAC(ledger, key, 1, MACPrefix{}, 0).String(), MAC(ledger, key, 2, MACPrefix{}, 0).String(), MAC(other, key, 1, MACPrefix{}, 0).String(), MAC(ledger, key, 1, MACPrefix{}, 1).String(),
	} {
		assert.False(t, seen[id], id)
		seen[id] = true
	}
	for n := range 200 {
		mac := MAC(ledger, key, n, MACPrefix{}, 0)
		var prefix MACPrefix
		err := prefix.UnmarshalText([]byte("52:54:00"))
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(MAC(ledger, key, n, prefix, 0).String(), "52:54:00:"))
		assert.Equal(t, byte(0x02), mac[0]&0x03, "unicast and locally administered: %s", mac)
	}
}

func TestParseMAC(t *testing.T) {
	got, err := ParseMAC("02-00-5E-10-00-01")
	require.NoError(t, err)
	assert.Equal(t, "02:00:5e:10:00:01", got)
	for _, bad := range []string{"", "02:00", "03:00:5e:10:00:01", "00:00:00:00:fe:80:00:00"} {
		_, err := ParseMAC(bad)
		assert.ErrorIs(t, err, ErrMAC, bad)
	}
}

func TestFingerprintFollowsEveryValue(t *testing.T) {
	a := Spec{Shape: Shape{CPUs: 2}, Guest: Guest{Hostname: "a"}}
	b := a
	assert.Equal(t, a.Fingerprint(), b.Fingerprint())
	b.Info.Notes = "x"
	assert.NotEqual(t, a.Fingerprint(), b.Fingerprint())
}

func FuzzParseSize(f *testing.F) {
	f.Add("4GiB")
	f.Add("1.5 T")
	f.Fuzz(func(t *testing.T, s string) {
		size, err := ParseSize(s)
		if err != nil {
			return
		}
		again, err := ParseSize(size.String())
		if err != nil || again != size || size <= 0 {
			t.Fatalf("%q is %d, but reads back as %d (%v)", s, size, again, err)
		}
	})
}

func FuzzParseSpan(f *testing.F) {
	f.Add("bms-[quay,vessel]-[01-04]")
	f.Fuzz(func(t *testing.T, s string) {
		span, err := ParseSpan(s)
		if err != nil {
			return
		}
		if n := span.Count(); n < 1 || n > math.MaxInt {
			t.Fatalf("%q has %d names", s, n)
		}
		_, _ = span.Name(0), span.Name(span.Count()-1)
	})
}
