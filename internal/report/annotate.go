package report

import (
	"bytes"
	"fmt"
	"strings"

	"github.com/xuri/excelize/v2"

	"mintbatch/internal/core/finding"
	"mintbatch/internal/core/sheet"
)

// Annotated is a copy of a sheet, a workbook, in which each finding is a comment at its cell; those of a row at its first one. Of a
// CSV it is a plain workbook with the same cells. Comments that are there already stay, above ours.
func Annotated(original []byte, t *sheet.Table, found finding.List) ([]byte, error) {
	var book *excelize.File
	var err error
	worksheet := t.Worksheet
	switch t.Kind {
	case sheet.XLSX:
		book, err = excelize.OpenReader(bytes.NewReader(original))
	case sheet.CSV:
		book, worksheet, err = bookOf(original, t)
	default:
		err = ErrKind
	}
	if err != nil {
		return nil, err
	}
	defer book.Close()
	texts := map[string]string{}
	var order []string
	for _, f := range found {
		if f.At.File != t.File || f.At.Row == 0 {
			continue
		}
		cell, err := excelize.CoordinatesToCellName(max(f.At.Column, 1), f.At.Row)
		if err != nil {
			return nil, err
		}
		if texts[cell] == "" {
			order = append(order, cell)
		}
		text := f.Severity.String() + ": " + f.Message
		if f.Hint != "" {
			text += "\n" + f.Hint
		}
		texts[cell] = strings.TrimPrefix(texts[cell]+"\n"+text, "\n")
	}
	there, err := book.GetComments(worksheet)
	if err != nil {
		return nil, fmt.Errorf("read the comments: %w", err)
	}
	for _, c := range there {
		if texts[c.Cell] == "" {
			continue
		}
		texts[c.Cell] = strings.TrimSpace(commentText(c)) + "\n" + texts[c.Cell]
		if err := book.DeleteComment(worksheet, c.Cell); err != nil {
			return nil, err
		}
	}
	for _, cell := range order {
		if err := book.AddComment(worksheet, excelize.Comment{Author: "mintbatch", Cell: cell, Text: texts[cell], Width: 320, Height: 120}); err != nil {
			return nil, err
		}
	}
	var out bytes.Buffer
	book.Path = "findings.xlsx"
	err = book.Write(&out)
	return out.Bytes(), err
}

// bookOf is a workbook with the cells of a CSV, each where its finding says that it is.
func bookOf(original []byte, t *sheet.Table) (*excelize.File, string, error) {
	records, err := sheet.Records(original, t.Comma)
	if err != nil {
		return nil, "", err
	}
	book := excelize.NewFile()
	name := book.GetSheetName(0)
	for _, r := range records {
		for i, cell := range r.Cells {
			at, err := excelize.CoordinatesToCellName(i+1, r.Number)
			if err == nil && cell != "" {
				err = book.SetCellStr(name, at, cell)
			}
			if err != nil {
				return nil, "", err
			}
		}
	}
	return book, name, nil
}

// commentText is the text of a comment, whether it is plain or in parts of several looks.
func commentText(c excelize.Comment) string {
	text := c.Text
	for _, part := range c.Paragraph {
		text += part.Text
	}
	return text
}
