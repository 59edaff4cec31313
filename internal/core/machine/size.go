package machine

import (
	"errors"
	"fmt"
	"math/big"
	"strings"

	"mintbatch/internal/core/pattern"
)

// Size is a number of bytes. Its text form carries a unit; unlike most
// programs' sizes, a bare number is not accepted, since nobody can tell
// whether 4 means gibibytes or mebibytes.
type Size int64

// The binary units. Virtualization managers mean these whether they write GB,
// GiB or G, and so do we.
const (
	KiB Size = 1 << 10
	MiB Size = 1 << 20
	GiB Size = 1 << 30
	TiB Size = 1 << 40
)

// ErrSize is what every failure of ParseSize unwraps to.
var ErrSize = errors.New("not a size")

var units = map[string]Size{
	"B": 1, "K": KiB, "KB": KiB, "KIB": KiB, "M": MiB, "MB": MiB, "MIB": MiB,
	"G": GiB, "GB": GiB, "GIB": GiB, "T": TiB, "TB": TiB, "TIB": TiB,
}

// Unit is the unit of a bare number, such as MiB; empty is none.
type Unit string

// UnmarshalText reads a unit.
func (u *Unit) UnmarshalText(text []byte) error {
	if _, known := units[strings.ToUpper(string(text))]; !known {
		return errors.New("write MiB, GiB or TiB")
	}
	*u = Unit(text)
	return nil
}

// Expects describes a unit.
func (Unit) Expects() string { return "a unit such as GiB" }

// ParseSize reads `4GiB`, `512 MiB`, `1.5T`. The result is a whole number of
// bytes, at least one.
func ParseSize(s string) (Size, error) {
	s = strings.TrimSpace(s)
	number := strings.TrimRight(s, "BKMGTIbkmgti \u00a0\u202f")
	unit := strings.TrimSpace(s[len(number):])
	number, err := unmarked(number)
	if err != nil {
		return 0, err
	}
	if len(number) == 0 || len(number) > 20 || strings.Trim(number, "0123456789.") != "" {
		return 0, fmt.Errorf("%w: write a number and a unit, such as 4GiB", ErrSize)
	}
	if unit == "" {
		return 0, fmt.Errorf("%w: the unit is missing; write %sGiB or %sMiB", ErrSize, number, number)
	}
	factor, ok := units[strings.ToUpper(unit)]
	if !ok {
		return 0, fmt.Errorf("%w: unknown unit %s; use MiB, GiB or TiB", ErrSize, unit)
	}
	r, ok := new(big.Rat).SetString(number)
	if !ok {
		return 0, fmt.Errorf("%w: write a number and a unit, such as 4GiB", ErrSize)
	}
	r.Mul(r, new(big.Rat).SetInt64(int64(factor)))
	if !r.IsInt() {
		return 0, fmt.Errorf("%w: not a whole number of bytes", ErrSize)
	}
	if r.Sign() <= 0 {
		return 0, fmt.Errorf("%w: it must be greater than zero", ErrSize)
	}
	if !r.Num().IsInt64() {
		return 0, fmt.Errorf("%w: it is too large", ErrSize)
	}
	return Size(r.Num().Int64()), nil
}

// threes is a number whose digits stand in threes, and what groups them.
var threes = pattern.Lazy(`^[0-9]{1,3}(?:([.,'’ \x{a0}\x{202f}])[0-9]{3})+([.,][0-9]+)?$`)

// unmarked writes a number without what groups its thousands, and with a point
// before its decimals. One whose only mark may mean either is refused.
func unmarked(s string) (string, error) {
	m := threes().FindStringSubmatch(s)
	switch {
	case m == nil && strings.Count(s, ",") == 1 && !strings.Contains(s, "."):
		return strings.Replace(s, ",", ".", 1), nil // 1,5
	case m == nil:
		return s, nil
	}
	whole := strings.TrimSuffix(s, m[2])
	digits := strings.NewReplacer(".", "", ",", "", "'", "", "’", "", " ", "", "\u00a0", "", "\u202f", "").Replace(whole)
	mark := m[1] == "." || m[1] == ","
	switch {
	case mark && m[2] != "" && m[2][:1] == m[1]:
		return "", fmt.Errorf("%w: write a number and a unit, such as 4GiB", ErrSize)
	case mark && m[2] == "" && len(whole)-len(digits) == 1 && s[0] != '0': // 1,024 and 1.024
		fraction := strings.Replace(whole, m[1], ".", 1)
		return "", fmt.Errorf("%w: %s may mean %s or %s; write it without %q", ErrSize, s, digits, strings.TrimSuffix(strings.TrimRight(fraction, "0"), "."), m[1])
	case mark && m[2] == "" && s[0] == '0': // 0,500
		return strings.Replace(whole, m[1], ".", 1), nil
	}
	return digits + strings.Replace(m[2], ",", ".", 1), nil
}

// String writes the size in the largest unit that keeps it a whole number.
func (s Size) String() string {
	for _, u := range []struct {
		size Size
		name string
	}{{TiB, "TiB"}, {GiB, "GiB"}, {MiB, "MiB"}, {KiB, "KiB"}} {
		if s != 0 && s%u.size == 0 {
			return fmt.Sprintf("%d%s", s/u.size, u.name)
		}
	}
	return fmt.Sprintf("%dB", int64(s))
}

// MarshalText writes the size as String does.
func (s Size) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// UnmarshalText reads what ParseSize reads, and also 0B: unlike one that is
// wanted, a size that is reported may be zero.
func (s *Size) UnmarshalText(b []byte) error {
	if string(b) == "0B" {
		*s = 0
		return nil
	}
	v, err := ParseSize(string(b))
	*s = v
	return err
}

// Rough writes a size for people: three digits, in the unit in which it is short.
func (s Size) Rough() string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB"}
	n, i := float64(s), 0
	for ; (n >= 1000 || n <= -1000) && i < len(units)-1; i++ {
		n /= 1024
	}
	digits := 0
	if i > 0 && n < 100 && n > -100 {
		digits = 1
	}
	return strings.TrimSuffix(fmt.Sprintf("%.*f", digits, n), ".0") + units[i]
}
