package sheet

import (
	"fmt"
	"unicode/utf8"

	"mintbatch/internal/core/finding"
)

// notASheet refuses what no cell can mean: text that is none, characters that
// only control terminals, and a formula that has failed.
func notASheet(cell string) (finding.Finding, bool) {
	if !utf8.ValidString(cell) {
		return finding.Finding{Code: "bad-text", Message: "the cell is not text", Hint: "save the sheet as UTF-8"}, true
	}
	if len(cell) > 32767 {
		return finding.Finding{Code: "bad-text", Message: "the cell holds more than 32,767 characters", Hint: "shorten it"}, true
	}
	if errorValues[cell] {
		return finding.Finding{Code: "error-value", Value: cell, Message: fmt.Sprintf("the formula in this cell failed: %s", cell), Hint: "correct it, or write the value"}, true
	}
	for _, r := range cell {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r >= 0x7f && r <= 0x9f {
			return finding.Finding{Code: "bad-text", Message: fmt.Sprintf("the cell holds the control character U+%04X", r), Hint: "remove it"}, true
		}
	}
	return finding.Finding{}, false
}

// bareFormula refuses a formula whose value was not stored, as programs leave it
// that write workbooks and do not calculate.
func bareFormula(cell string) finding.Finding {
	return finding.Finding{Code: "error-value", Value: cell, Message: "the workbook has no stored value for the formula in this cell: " + cell,
		Hint: "open and save it in a spreadsheet program, or write the value"}
}

// errorValues are what spreadsheet programs show for a failed formula.
var errorValues = map[string]bool{"#REF!": true, "#N/A": true, "#VALUE!": true, "#NAME?": true, "#DIV/0!": true, "#NUM!": true, "#NULL!": true,
	"#SPILL!": true, "#CALC!": true, "Err:502": true, "Err:504": true, "Err:508": true, "Err:509": true, "Err:511": true, "Err:522": true}
