package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"path"
	"strings"

	"github.com/xuri/excelize/v2"
)

// cellAt is a cell by its row and column, from 1.
type cellAt struct{ row, column int }

// bareFormulas finds, by worksheet, the formulas of a workbook whose value is not
// stored: such a cell looks empty, and is not (ECMA-376, part 1, section 18.3.1.40).
func bareFormulas(content []byte) (map[string]map[cellAt]string, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, err
	}
	files, onLoad, err := worksheetParts(z)
	if err != nil {
		return nil, nil // the library reads, or refuses, what is named otherwise
	}
	all := map[string]map[cellAt]string{}
	for name, file := range files {
		f, err := z.Open(file)
		if err != nil {
			continue
		}
		all[name], err = bareIn(f, onLoad)
		_ = f.Close()
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// worksheetParts finds the parts of a workbook's worksheets, by their names, and whether it is
// calculated when it is opened.
func worksheetParts(z *zip.Reader) (files map[string]string, onLoad bool, err error) {
	var book struct {
		Sheets []struct {
			Name string     `xml:"name,attr"`
			Attr []xml.Attr `xml:",any,attr"`
		} `xml:"sheets>sheet"`
		Calc struct {
			OnLoad string `xml:"fullCalcOnLoad,attr"`
		} `xml:"calcPr"`
	}
	var relations struct {
		All []struct {
			ID     string `xml:"Id,attr"`
			Target string `xml:"Target,attr"`
		} `xml:"Relationship"`
	}
	if err := errors.Join(parse(z, "xl/workbook.xml", &book), parse(z, "xl/_rels/workbook.xml.rels", &relations)); err != nil {
		return nil, false, err
	}
	at := map[string]string{}
	for _, r := range relations.All {
		at[r.ID] = strings.TrimPrefix(path.Join("/xl", strings.TrimPrefix(r.Target, "/xl/")), "/")
	}
	files = map[string]string{}
	for _, s := range book.Sheets {
		for _, a := range s.Attr {
			if file, ok := at[a.Value]; ok && a.Name.Local == "id" {
				files[s.Name] = file
			}
		}
	}
	return files, truth(book.Calc.OnLoad), nil
}

func truth(s string) bool { return s == "1" || s == "true" }

func parse(z *zip.Reader, name string, into any) error {
	content, err := part(z, name)
	if err != nil {
		return err
	}
	return xml.Unmarshal(content, into)
}

// bareIn reads a worksheet. Of a workbook that is to be calculated when it is opened
// a stored nought is none: that is what programs write that do not calculate.
func bareIn(r io.Reader, onLoad bool) (map[cellAt]string, error) {
	content, err := io.ReadAll(r)
	if err != nil {
		return nil, err
	}
	if !bytes.Contains(content, []byte("<f")) && !bytes.Contains(content, []byte(":f")) {
		return nil, nil
	}
	bare := map[cellAt]string{}
	d := xml.NewDecoder(bytes.NewReader(content))
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return bare, nil
		}
		if err != nil {
			return nil, err
		}
		e, ok := t.(xml.StartElement)
		if !ok || e.Name.Local != "c" {
			continue
		}
		var c struct {
			Ref     string  `xml:"r,attr"`
			Kind    string  `xml:"t,attr"`
			Formula *string `xml:"f"`
			Value   *string `xml:"v"`
		}
		if err := d.DecodeElement(&c, &e); err != nil {
			return nil, err
		}
		stored := c.Value != nil && (*c.Value != "" || c.Kind == "str") && (*c.Value != "0" || !onLoad)
		if c.Formula == nil || stored {
			continue
		}
		if column, row, err := excelize.CellNameToCoordinates(c.Ref); err == nil {
			bare[cellAt{row, column}] = "=" + *c.Formula
		}
	}
}
