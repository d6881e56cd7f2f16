package main

import (
	"bytes"
	"encoding/csv"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/xuri/excelize/v2"
)

func TestMain(m *testing.M) {
	if dir := os.Getenv("RUN_EXAMPLE"); dir != "" {
		os.Args = []string{"manifest", dir}
		main()
		return
	}
	os.Exit(m.Run())
}

// Both pier masters get a letter, whose attachments an independent reader opens.
func TestRun(t *testing.T) {
	dir := t.TempDir()
	cmd := exec.CommandContext(t.Context(), os.Args[0])
	cmd.Env = append(os.Environ(), "RUN_EXAMPLE="+dir)
	if out, err := cmd.CombinedOutput(); err != nil || strings.Count(string(out), ": sent") != len(pierMasters) {
		t.Fatalf("%v\n%s", err, out)
	}
	mails, err := filepath.Glob(filepath.Join(dir, "mail", "new", "*.eml"))
	if err != nil || len(mails) != len(pierMasters) {
		t.Fatalf("%d letters, %v", len(mails), err)
	}
	const read = `
import email, email.policy, sys
m = email.message_from_binary_file(open(sys.argv[1], "rb"), policy=email.policy.default)
for a in m.iter_attachments():
    open(sys.argv[2] + "/" + a.get_filename(), "wb").write(a.get_payload(decode=True))
print(m["Subject"]); print(m.get_body(("plain",)).get_content())`
	out, err := exec.CommandContext(t.Context(), "/usr/bin/python3", "-c", read, mails[0], dir).CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	if text := string(out); !strings.Contains(text, "3 passengers") || !strings.Contains(text, "Greta Sund") ||
		!strings.Contains(text, "\nIt holds names.") {
		t.Errorf("the letter:\n%s", text)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "manifest.csv"))
	if err != nil {
		t.Fatal(err)
	}
	if rows, err := csv.NewReader(bytes.NewReader(raw)).ReadAll(); err != nil || len(rows) != 4 ||
		rows[2][2] != "Jens Öhlén" {
		t.Errorf("the CSV holds %v, %v", rows, err)
	}
	book, err := excelize.OpenFile(filepath.Join(dir, "manifest.xlsx"))
	if err != nil {
		t.Fatal(err)
	}
	defer book.Close()
	if cell, err := book.GetCellValue("Sheet1", "C4"); err != nil || cell != "Greta Sund" {
		t.Errorf("the workbook's last cell is %q, %v", cell, err)
	}
}
