package sheet

import (
	"fmt"
	"unicode/utf8"

	"mintbatch/internal/core/finding"
)

// rubbish refuses what no cell can mean: text that is none, characters that
// only control terminals, and a formula that has failed.
func rubbish(cell string) (finding.Finding, bool) {
	if !utf8.ValidString(cell) {
		return finding.Finding{Code: "bad-text", Message: "the cell is not text", Hint: "save the sheet anew, as UTF-8"}, true
	}
	if len(cell) > 32767 {
		return finding.Finding{Code: "bad-text", Message: "the cell holds more than 32,767 characters", Hint: "shorten it"}, true
	}
	if errorValues[cell] {
		return finding.Finding{Code: "error-value", Value: cell, Message: fmt.Sprintf("the formula here has failed: %s", cell), Hint: "mend it, or write the value"}, true
	}
	for _, r := range cell {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r >= 0x7f && r <= 0x9f {
			return finding.Finding{Code: "bad-text", Message: fmt.Sprintf("the cell holds the control character U+%04X", r), Hint: "remove it"}, true
		}
	}
	return finding.Finding{}, false
}

// errorValues are what spreadsheet programs show for a failed formula.
var errorValues = map[string]bool{"#REF!": true, "#N/A": true, "#VALUE!": true, "#NAME?": true, "#DIV/0!": true, "#NUM!": true, "#NULL!": true,
	"#SPILL!": true, "#CALC!": true, "Err:502": true, "Err:504": true, "Err:508": true, "Err:509": true, "Err:511": true, "Err:522": true}
