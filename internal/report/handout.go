package report

import "html/template"

// HandoutPage tells whoever gets machines on a stick or a share how to take them in. It is whole in itself.
type HandoutPage struct {
	// Machines are rows of name, owner, folder, hardware and addresses.
	Machines [][]string
}

// Columns name what is in the rows.
func (HandoutPage) Columns() []string {
	return []string{"machine", "owner", "folder", "hardware", "addresses"}
}

// HTML writes the page.
func (p HandoutPage) HTML() ([]byte, error) {
	return render("handout.html", struct {
		HandoutPage
		Title string
		Style template.CSS
	}{p, "Machines in this folder", template.CSS(own("style.css"))}) //nolint:gosec // our own text
}
