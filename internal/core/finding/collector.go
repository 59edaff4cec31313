package finding

import (
	"fmt"
	"strings"
)

// Most is how many findings of one code are told one by one.
const Most = 100

// Collector gathers findings. One that is made again, as a preset's wrong value
// is by each of its machines, is told once with those that it touches; of each
// code the first Most are reported, and the others counted.
type Collector struct {
	// Nameless leaves out which machines a finding touches.
	Nameless bool

	list    List
	at      map[string]int // findings of list, by what makes them the same
	touched []names        // by finding
	over    map[string]*Finding
	told    map[string]int // by code
}

// names are the machines that a finding touches.
type names struct {
	known map[string]bool
	first []string
}

// Add takes a finding that touches some machines. What makes it the same as
// another is its code, its position and what, by default its message.
func (c *Collector) Add(f Finding, what string, machines ...string) {
	if what == "" {
		what = f.Message
	}
	id := strings.Join([]string{f.Code, f.At.String(), what}, "\x00")
	i, again := c.at[id]
	if !again {
		if c.told == nil {
			c.at, c.told, c.over = map[string]int{}, map[string]int{}, map[string]*Finding{}
		}
		if c.told[f.Code]++; c.told[f.Code] > Most {
			c.count(f)
			return
		}
		i = len(c.list)
		c.at[id] = i
		c.list.Add(f)
		c.touched = append(c.touched, names{known: map[string]bool{}})
	}
	if c.Nameless {
		return
	}
	n := &c.touched[i]
	for _, m := range machines {
		if !n.known[m] {
			n.known[m] = true
			if len(n.first) < 3 {
				n.first = append(n.first, m)
			}
		}
	}
}

// count counts a finding that is not told by itself.
func (c *Collector) count(f Finding) {
	over := c.over[f.Code]
	if over == nil {
		first := more(f, 0)
		over, c.over[f.Code] = &first, &first
	}
	over.More++
}

// Full reports whether another finding of a code would only be counted.
func (c *Collector) Full(code string) bool { return c.told[code] >= Most }

// Hint adds to what the last finding advises.
func (c *Collector) Hint(i int, more string) {
	c.list[i].Hint = strings.TrimPrefix(c.list[i].Hint+"; "+more, "; ")
}

// Len is how many findings are told one by one so far.
func (c *Collector) Len() int { return len(c.list) }

// List returns what was gathered.
func (c *Collector) List() List {
	all := append(List(nil), c.list...)
	for i, n := range c.touched {
		switch more := len(n.known) - len(n.first); {
		case len(n.known) < 2:
		case more > 0:
			all[i].Message += fmt.Sprintf("; affects %d machines: %s and %d more", len(n.known), strings.Join(n.first, ", "), more)
		default:
			all[i].Message += fmt.Sprintf("; affects %d machines: %s", len(n.known), strings.Join(n.first, ", "))
		}
	}
	for _, f := range c.list { // in the order in which they came
		if over := c.over[f.Code]; over != nil {
			delete(c.over, f.Code)
			all = append(all, more(*over, over.More))
		}
	}
	return all
}
