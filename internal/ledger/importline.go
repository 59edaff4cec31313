package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"github.com/tdewolff/parse/v2"
	lexer "github.com/tdewolff/parse/v2/json"
)

// importTable is a table that an export has rows of.
type importTable struct {
	table
	into    string         // the beginning of a statement that inserts
	places  map[string]int // of its columns, which stand in quotes
	numbers []bool         // by place
	sum     bool           // whether its rows have a checksum
}

func (l *Ledger) importTables() map[string]*importTable {
	all := map[string]*importTable{}
	for _, t := range exported() {
		i := &importTable{table: t, places: map[string]int{}, numbers: make([]bool, len(t.columns)), sum: l.store.check != ""}
		for place, name := range t.columns {
			i.places[`"`+name+`"`], i.numbers[place] = place, t.isNumber(name)
		}
		columns := t.columnList()
		if i.sum {
			columns += ", sum"
		}
		i.into = `INSERT INTO ` + t.name + ` (` + columns + `) VALUES`
		all[t.name] = i
	}
	return all
}

// exportedLine is a line of an export: a row, or its end.
type exportedLine struct {
	table  *importTable
	values []any
	end    exportEnd
}

// parseLine reads a row of one of our tables: the names in a line are somebody else's
// words.
func parseLine(line []byte, tables map[string]*importTable) (one exportedLine, err error) {
	if bytes.HasPrefix(line, []byte(`{"end"`)) {
		err := json.Unmarshal(line, &one.end)
		return one, err
	}
	in := parse.NewInputBytes(line)
	defer in.Restore()
	p := lexer.NewParser(in)
	var row []cell
	name := ""
	if kind, _ := p.Next(); kind != lexer.StartObjectGrammar {
		return one, errors.New("it is no row")
	}
	for {
		kind, key := p.Next()
		if kind == lexer.EndObjectGrammar {
			break
		}
		switch kind, text := p.Next(); {
		case string(key) == `"table"` && kind == lexer.StringGrammar && name == "":
			name, err = unquoted(text)
		case string(key) == `"row"` && kind == lexer.StartObjectGrammar && row == nil:
			row, err = cells(p)
		default:
			err = fmt.Errorf("it is no row of a table (%s)", key)
		}
		if err != nil {
			return one, err
		}
	}
	if kind, _ := p.Next(); kind != lexer.ErrorGrammar || in.Offset() < len(line) {
		return one, errors.New("there is something behind its row")
	}
	one.table = tables[name]
	if one.table == nil {
		return one, fmt.Errorf("no table %q", name)
	}
	one.values, err = one.table.ordered(row)
	return one, err
}

// cell is a column of a row, in quotes, with its value, a string or an int64.
type cell struct {
	column []byte
	value  any
}

// cells reads the columns of a row up to its end.
func cells(p *lexer.Parser) ([]cell, error) {
	row := make([]cell, 0, 16)
	for {
		kind, key := p.Next()
		if kind == lexer.EndObjectGrammar {
			return row, nil
		}
		if kind != lexer.StringGrammar {
			return nil, errors.New("it is cut short, or no JSON")
		}
		var value any
		var err error
		switch kind, text := p.Next(); kind {
		case lexer.StringGrammar:
			value, err = unquoted(text)
		case lexer.NumberGrammar:
			value, err = strconv.ParseInt(string(text), 10, 64)
		default:
			err = errors.New("neither a text nor a number")
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
		row = append(row, cell{key, value})
	}
}

// unquoted is a string of JSON without its quotes.
func unquoted(quoted []byte) (text string, err error) {
	for _, b := range quoted {
		if b == '\\' || b < ' ' || b > '~' {
			err = json.Unmarshal(quoted, &text)
			return text, err
		}
	}
	return string(quoted[1 : len(quoted)-1]), nil
}

// ordered puts the values of a row in the order of the columns, behind them the row's checksum.
func (t *importTable) ordered(row []cell) ([]any, error) {
	all := make([]any, 1+len(t.columns), 2+len(t.columns))
	all[0] = t.name
	values := all[1:]
	for _, c := range row {
		place, known := t.places[string(c.column)]
		if !known || values[place] != nil {
			return nil, fmt.Errorf("the row of table %q has unknown columns, or one twice: %s", t.name, c.column)
		}
		if _, number := c.value.(int64); number != t.numbers[place] {
			return nil, fmt.Errorf("the row of table %q has a value of another kind: %s", t.name, c.column)
		}
		values[place] = c.value
	}
	for place, v := range values {
		if v == nil {
			return nil, fmt.Errorf("the row of table %q has no %q", t.name, t.columns[place])
		}
	}
	if t.sum {
		values = append(values, checksum(all))
	}
	return values, nil
}
