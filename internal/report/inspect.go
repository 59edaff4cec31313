package report

import "html/template"

// InspectPage tells what was found on disks. It is whole in itself.
type InspectPage struct {
	Title, Summary, Made string
	Disks                []InspectedDisk
}

// InspectedDisk is what was found on one disk.
type InspectedDisk struct {
	Name    string
	Facts   [][2]string // of its system, as names and values
	Columns []string    // of its volumes
	Volumes [][]string
	Groups  []FoundGroup
}

// FoundGroup are the findings of one severity.
type FoundGroup struct {
	Title string
	Found []FoundOnDisk
}

// FoundOnDisk is one finding.
type FoundOnDisk struct{ Code, Text, Where, Remedy string }

// HTML writes the page.
func (p InspectPage) HTML() ([]byte, error) {
	return render("inspect.html", struct {
		InspectPage
		Style template.CSS
	}{p, template.CSS(own("style.css"))}) //nolint:gosec // our own text
}
