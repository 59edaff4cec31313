package main

import (
	"bytes"
	"debug/buildinfo"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	cdx "github.com/CycloneDX/cyclonedx-go"
)

// billOfMaterials lists the modules that are in a program (CycloneDX 1.6).
func (b *build) billOfMaterials(t target, info *buildinfo.BuildInfo) (string, error) {
	bom := cdx.NewBOM()
	bom.Metadata = &cdx.Metadata{Timestamp: b.at.Format("2006-01-02T15:04:05Z"), Component: &cdx.Component{BOMRef: "mintbatch", Type: cdx.ComponentTypeApplication, Name: "mintbatch", Version: b.version}}
	components := []cdx.Component{{BOMRef: "go", Type: cdx.ComponentTypeLibrary, Name: "std", Version: info.GoVersion, PackageURL: "pkg:golang/std@" + strings.TrimPrefix(info.GoVersion, "go")}}
	for _, m := range info.Deps {
		of := fmt.Sprintf("pkg:golang/%s@%s", m.Path, m.Version)
		components = append(components, cdx.Component{BOMRef: of, Type: cdx.ComponentTypeLibrary, Name: m.Path, Version: m.Version, PackageURL: of})
	}
	bom.Components = &components
	var written bytes.Buffer
	e := cdx.NewBOMEncoder(&written, cdx.BOMFileFormatJSON)
	e.SetPretty(true)
	if err := e.Encode(bom); err != nil {
		return "", err
	}
	path := filepath.Join(b.out, fmt.Sprintf("mintbatch-%s-%s-%s.cdx.json", b.version, t.system, t.arch))
	return path, os.WriteFile(path, written.Bytes(), 0o644)
}
