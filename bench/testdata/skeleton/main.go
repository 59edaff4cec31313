// Command skeleton has the libraries that mintbatch cannot be without, and nothing of its
// own: a yardstick of its size and of its start.
package main

import (
	"context"
	"database/sql"
	"html/template"
	"net/http"
	"os"
	_ "time/tzdata"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/urfave/cli/v3"
	"github.com/xuri/excelize/v2"
	_ "modernc.org/sqlite"
)

func main() {
	c := &cli.Command{Name: "skeleton", Version: "1", Action: func(_ context.Context, c *cli.Command) error {
		db, err := sql.Open(c.Args().Get(0), c.Args().Get(1))
		if err != nil {
			return err
		}
		defer db.Close()
		book, err := excelize.OpenFile(c.Args().Get(2))
		if err != nil {
			return err
		}
		page, err := template.New("page").Parse(c.Args().Get(3))
		if err != nil {
			return err
		}
		http.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) { _ = page.Execute(w, book) })
		return http.ListenAndServe(c.Args().Get(4), nil)
	}}
	if err := c.Run(context.Background(), os.Args); err != nil {
		os.Exit(1)
	}
}
