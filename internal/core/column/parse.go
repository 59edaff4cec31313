package column

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"mintbatch/internal/core/glob"
	"mintbatch/internal/core/machine"
	"mintbatch/internal/core/pattern"
)

// none is the word that clears a setting.
const none = "none"

func text(cell string) (string, []Problem) { return cell, nil }

// oneOf reads a column with a few words, of which the first is the usual one.
func oneOf[T ~string](column string, words ...T) func(string) (T, []Problem) {
	return func(cell string) (T, []Problem) {
		if cell == "" {
			return words[0], nil
		}
		var known []string
		for _, w := range words {
			if strings.EqualFold(cell, string(w)) {
				return w, nil
			}
			if w != "" {
				known = append(known, string(w))
			}
		}
		return words[0], []Problem{{Message: fmt.Sprintf("%s must be %s, not %q", column, strings.Join(known, " or "), cell)}}
	}
}

// Link reads whether an adapter's cable is plugged in.
func Link(cell string) (unplugged bool, wrong []Problem) {
	word, wrong := oneOf("link", "up", "down")(cell)
	return word == "down", wrong
}

// wholeCount is a count as programs write it that know no whole numbers: 4.0.
var wholeCount = pattern.Lazy(`^([0-9]+)\.0+$`)

func cpus(cell string) (int, []Problem) {
	if cell == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(wholeCount().ReplaceAllString(cell, "$1"))
	if err != nil || n < 1 || n > 1024 {
		return n, []Problem{{Message: fmt.Sprintf("cpus must be a whole number from 1 to 1024, not %q", cell)}}
	}
	return n, nil
}

func size(column string) func(string) (machine.Size, []Problem) {
	return func(cell string) (machine.Size, []Problem) {
		if cell == "" {
			return 0, nil
		}
		size, err := machine.ParseSize(cell)
		switch {
		case err != nil:
			return size, []Problem{{Message: fmt.Sprintf("%s %q: %s", column, cell, err)}}
		case size%machine.MiB != 0:
			return size, []Problem{{Message: fmt.Sprintf("%s %q is not a whole number of MiB", column, cell)}}
		}
		return size, nil
	}
}

// systemDisk reads the size of the system disk, behind which its kind may stand as with data
// disks: `40G::full`.
func systemDisk(cell string) (machine.Size, []Problem) {
	text, rest, _ := strings.Cut(cell, ":")
	store, kind, _ := strings.Cut(rest, ":")
	of, wrong := size("disk")(strings.TrimSpace(text))
	switch k := machine.DiskKind(strings.ToLower(strings.TrimSpace(kind))); {
	case strings.TrimSpace(store) != "":
		wrong = append(wrong, Problem{fmt.Sprintf("disk %q: the store of the system disk has a column of its own", cell), "write for example 40G::full, and the store in the column store"})
	case k != "" && k != machine.ThinDisk && k != machine.FullDisk:
		wrong = append(wrong, Problem{fmt.Sprintf("disk %q: its kind must be thin or full", cell), "write for example 40G::full"})
	}
	return of, wrong
}

// DiskKind is the kind of a system disk in a cell that systemDisk has read; empty for a thin one.
func DiskKind(cell string) machine.DiskKind {
	parts := strings.Split(cell, ":")
	if len(parts) == 3 && strings.EqualFold(strings.TrimSpace(parts[2]), string(machine.FullDisk)) {
		return machine.FullDisk
	}
	return ""
}

// mostDisks is how many data disks a machine may have.
const mostDisks = 16

// disks reads data disks: `20G, 100G:bulk:full` is size, store and kind each.
func disks(cell string) (all []machine.Disk, wrong []Problem) {
	bad := func(hint, format string, args ...any) {
		wrong = append(wrong, Problem{fmt.Sprintf(format, args...), hint})
	}
	for _, word := range strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(",;\n", r) }) {
		parts := strings.Split(strings.TrimSpace(word), ":")
		size, err := machine.ParseSize(parts[0])
		disk := machine.Disk{Size: size, Kind: machine.ThinDisk}
		if len(parts) > 1 {
			disk.Store = strings.TrimSpace(parts[1])
		}
		if len(parts) > 2 {
			disk.Kind = machine.DiskKind(strings.ToLower(strings.TrimSpace(parts[2])))
		}
		switch {
		case err != nil:
			bad("write size:store:kind, such as 100G:bulk:full; store and kind are optional", "disk %q: %s", word, err)
		case size%machine.MiB != 0:
			bad("", "disk %q is not a whole number of MiB", word)
		case len(parts) > 3 || disk.Kind != machine.ThinDisk && disk.Kind != machine.FullDisk:
			bad("write for example 100G:bulk:full", "disk %q: it must be size:store:kind, where kind is thin or full", word)
		case len(all) == mostDisks:
			bad("", "more than %d data disks", mostDisks)
			return all, wrong
		}
		all = append(all, disk)
	}
	return all, wrong
}

func domain(cell string) (string, []Problem) {
	name := strings.TrimSuffix(strings.ToLower(cell), ".")
	if name == "" {
		return "", nil
	}
	if err := machine.CheckDomain(name); err != nil {
		return name, []Problem{{Message: err.Error()}}
	}
	return name, nil
}

// checkpoints reads the checkpoints of a machine, and writes them in one form.
func checkpoints(cell string) (string, []Problem) {
	all, err := machine.ParseCheckpoints(cell)
	if err != nil {
		return cell, []Problem{{err.Error(), "write for example fresh ready@confirmed"}}
	}
	words := make([]string, len(all))
	for i, c := range all {
		words[i] = c.String()
	}
	return strings.Join(words, " "), nil
}

// image reads the name of an image in a store.
func image(cell string) (string, []Problem) {
	store, name, _ := strings.Cut(cell, "/")
	if cell != "" && (store == "" || name == "" || strings.Contains(name, "/")) {
		return cell, []Problem{{fmt.Sprintf("media %q: it must be the store and the image's name in it", cell), "write for example media/installer.iso"}}
	}
	return cell, nil
}

// midnight is what programs write behind a day.
var midnight = pattern.Lazy(`[T ]00:00(:00(\.0+)?)?(Z|\+00:00)?$`)

func date(cell string) (string, []Problem) {
	day := midnight().ReplaceAllString(cell, "")
	if _, err := time.Parse(time.DateOnly, day); cell != "" && err != nil {
		return day, []Problem{{fmt.Sprintf("%q is not a date", cell), "write it as 2027-03-31"}}
	}
	return day, nil
}

// label is a word of labels: a name, and perhaps a value, in quotes if it is not one word.
var label = pattern.Lazy(`^[\s,;]*([^\s,;="]+)(?:=("(?:[^"]|"")*"|[^\s,;"]*))?(?:[\s,;]+|$)`)

func labels(cell string) (all map[string]string, wrong []Problem) {
	if cell == "" {
		return nil, nil
	}
	all = map[string]string{}
	for rest := strings.Trim(cell, " ,;\n\t\r"); rest != ""; {
		m := label().FindStringSubmatch(rest)
		if m == nil || machine.CheckLabel(m[1]) != nil {
			word := rest
			if i := strings.IndexAny(rest, " ,;\n\t\r"); i > 0 {
				word = rest[:i]
			}
			wrong = append(wrong, Problem{fmt.Sprintf("%q is not a label", word),
				`write name=value pairs, such as rack=3 tier=a; quote a value with blanks: place="row 3"`})
			rest = strings.TrimLeft(rest[len(word):], " ,;\n\t\r")
			continue
		}
		value := m[2]
		if strings.HasPrefix(value, `"`) {
			value = strings.ReplaceAll(value[1:len(value)-1], `""`, `"`)
		}
		all[m[1]] = value
		rest = rest[len(m[0]):]
	}
	return all, wrong
}

// after reads the words for machines that another is started after.
func after(cell string) (all []string, wrong []Problem) {
	for _, word := range listed(cell) {
		name, isPreset := strings.CutPrefix(word, "preset:")
		label, _, isLabel := strings.Cut(word, "=")
		switch {
		case isPreset && name == "", !isPreset && strings.Contains(word, ":"), isLabel && machine.CheckLabel(label) != nil, !glob.Valid(word):
			wrong = append(wrong, Problem{fmt.Sprintf("%q is neither a machine, a preset nor a label", word), "write for example bms-dns-01, bms-dns-*, preset:name-server or role=dns"})
		default:
			all = append(all, word)
		}
	}
	return distinct(all), wrong
}

// distinct leaves out words that come again.
func distinct(words []string) []string {
	seen := make(map[string]bool, len(words))
	return slices.DeleteFunc(words, func(word string) bool {
		again := seen[word]
		seen[word] = true
		return again
	})
}

// listed are the words of a cell that has several.
func listed(cell string) []string {
	return strings.FieldsFunc(cell, func(r rune) bool { return strings.ContainsRune(" ,;\n\t\r", r) })
}

// aliases reads further names of a machine.
func aliases(cell string) (all []string, wrong []Problem) {
	for _, word := range listed(cell) {
		name := strings.ToLower(strings.TrimSuffix(word, "."))
		if err := machine.CheckDomain(name); err != nil {
			wrong = append(wrong, Problem{fmt.Sprintf("alias %q: %s", word, err), "write names such as www or www.brackwater.example"})
		} else {
			all = append(all, name)
		}
	}
	return distinct(all), wrong
}

// systems reads the names of systems around a machine, or the word none.
func systems(cell string) (all []string, wrong []Problem) {
	return distinct(listed(cell)), nil
}
