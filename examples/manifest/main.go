// Manifest writes to every pier master once a day: who boards today, as a table in the letter, as
// CSV and as a workbook. Run it from a timer:
//
//	go run ./examples/manifest DIR     # the letters end in DIR/mail, a Maildir
package main

import (
	"bytes"
	"context"
	"embed"
	"encoding/csv"
	"fmt"
	"io/fs"
	"log"
	"os"
	"path/filepath"
	"time"

	"github.com/xuri/excelize/v2"

	"github.com/illumicode/illumicode"
	"github.com/illumicode/illumicode/desk"
	"github.com/illumicode/illumicode/letters"
	"github.com/illumicode/illumicode/message"
	"github.com/illumicode/illumicode/provider"
	"github.com/illumicode/illumicode/provider/file"
	"github.com/illumicode/illumicode/store/sqlite"
	"github.com/illumicode/illumicode/token"
)

//go:embed letters
var own embed.FS

// Manifest is the data of the letter. New checks at start that the letter uses nothing else.
type Manifest struct {
	Day      time.Time  `json:"day"`
	Count    int        `json:"count"`
	Sailings [][]string `json:"sailings"`
}

// bookings stand for the ferry's database: sailing, harbour, passenger.
var bookings = [][]string{
	{"07:10", "Gull Quay", "Mara Quist"}, {"07:10", "Gull Quay", "Jens Öhlén"}, {"18:25", "Törnholm", "Greta Sund"},
}

// pierMasters are who gets the manifest, each in a letter of their own.
var pierMasters = []string{"pier.master@gullquay.example", "pier.master@törnholm.example"}

func main() {
	if len(os.Args) != 2 {
		log.Fatal("usage: manifest DIR")
	}
	dir, ctx := os.Args[1], context.Background()
	st := must(sqlite.Open(ctx, filepath.Join(dir, "letters.db")))
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		log.Fatal(err)
	}
	svc := must(illumicode.New(illumicode.Config{
		Store: st, Keys: token.Generate(time.Now()), From: must(message.ParseAddress("crew@ternisle.example")),
		Site:      illumicode.Site{BaseURL: "https://ferry.example", Name: "Tern Isle Ferry"},
		Providers: []provider.Provider{must(file.New("mail", filepath.Join(dir, "mail")))},
		Letters:   must(letters.Load(must(fs.Sub(own, "letters")), letters.Fallback)),
		Data:      map[string]any{"manifest": Manifest{}},
	}))
	asCSV, asWorkbook := must(sheet(bookings)), must(workbook(bookings))
	for _, to := range pierMasters {
		d := must(desk.New(svc).Send(ctx, illumicode.Notice{
			Letter: "manifest", To: illumicode.Request{Address: to, Zone: "Europe/Oslo"},
			Data: Manifest{Day: time.Now(), Count: len(bookings), Sailings: bookings},
			Attachments: []message.Attachment{
				{Name: "manifest.csv", Type: "text/csv; charset=utf-8", Body: bytes.NewReader(asCSV)},
				{Name: "manifest.xlsx", Type: "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
					Body: bytes.NewReader(asWorkbook)},
			},
		}))
		fmt.Printf("%s: %s\n", to, d.State)
	}
}

func sheet(rows [][]string) ([]byte, error) {
	var b bytes.Buffer
	err := csv.NewWriter(&b).WriteAll(append([][]string{{"sailing", "to", "passenger"}}, rows...))
	return b.Bytes(), err
}

func workbook(rows [][]string) ([]byte, error) {
	f := excelize.NewFile()
	defer f.Close()
	for i, row := range append([][]string{{"sailing", "to", "passenger"}}, rows...) {
		if err := f.SetSheetRow("Sheet1", fmt.Sprintf("A%d", i+1), &row); err != nil {
			return nil, err
		}
	}
	b, err := f.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

func must[T any](v T, err error) T {
	if err != nil {
		log.Fatal(err)
	}
	return v
}
