package ovf

import (
	"math"
	"strconv"
	"strings"
)

// oldUnits are names that writers used before units had a grammar.
var oldUnits = map[string]int64{"": 1, "bytes": 1, "byte": 1, "kilobytes": 1 << 10, "kb": 1 << 10, "megabytes": 1 << 20, "mb": 1 << 20, "gigabytes": 1 << 30, "gb": 1 << 30, "terabytes": 1 << 40, "tb": 1 << 40}

// unit is how many bytes a programmatic unit stands for (DSP0004, annex C): `byte * 2^20`. None is bytes.
func unit(s string) (int64, error) {
	s = strings.ToLower(strings.Join(strings.Fields(s), ""))
	if n, is := oldUnits[s]; is {
		return n, nil
	}
	rest, is := strings.CutPrefix(s, "byte")
	if !is {
		return 0, bad("the unit %q", s)
	}
	of := 1.0
	for rest != "" {
		op := rest[0]
		end := strings.IndexAny(rest[1:], "*/")
		term := rest[1:]
		if end >= 0 {
			term = rest[1 : end+1]
		}
		rest = rest[1+len(term):]
		base, power, raised := strings.Cut(term, "^")
		n, err := strconv.ParseFloat(base, 64)
		exponent := 1.0
		if raised && err == nil {
			exponent, err = strconv.ParseFloat(power, 64)
		}
		switch {
		case err != nil || op != '*' && op != '/':
			return 0, bad("the unit %q", s)
		case op == '*':
			of *= math.Pow(n, exponent)
		default:
			of /= math.Pow(n, exponent)
		}
	}
	if !(of >= 1 && of <= 1<<60) || of != math.Trunc(of) {
		return 0, bad("the unit %q", s)
	}
	return int64(of), nil
}

// bytes is a number of units.
func bytes(number, units string) (int64, error) {
	each, err := unit(units)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(strings.TrimSpace(number), 10, 64)
	if err != nil || n < 0 || n > math.MaxInt64/2/each {
		return 0, bad("%q of the unit %q", number, units)
	}
	return n * each, nil
}
