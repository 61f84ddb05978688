package scenario

import (
	"bytes"
	"crypto/md5" //nolint:gosec // as such lists are
	"crypto/sha256"
	"fmt"
	"mime/quotedprintable"
)

// awkwardLists returns folders whose lists are written as people write them.
func awkwardLists() map[string]folder {
	lamps := []string{"lamp-ctl-3.7-head.bin", "lamp ctl 3.7 drive (spare).bin"}

	// A page that somebody saved from the browser, with a table.
	page := folder{}
	var rows bytes.Buffer
	for _, name := range lamps {
		page[name] = image(name, 96<<10)
		fmt.Fprintf(
			&rows, "<tr><td><a href=\"fw/%s\">%s</a></td><td>%d</td><td><code>%x</code></td></tr>\n", name, name,
			len(page[name]), md5.Sum(page[name]),
		) //nolint:gosec // as such lists are
	}
	page["downloads.html"] = fmt.Appendf(
		nil,
		"<!DOCTYPE html>\n<html><head><title>Lanternfell downloads</title></head><body>\n<h1>Lamp controller 3.7</h1>\n"+
			"<table><tr><th>File</th><th>Size (bytes)</th><th>MD5</th></tr>\n%s</table>\n<p>Build %x</p>\n</body></html>\n",
		rows.Bytes(),
		sha256.Sum256([]byte("build 3.7")),
	)

	// A sheet with columns in an order of its own, and one value cut by a column that
	// was too narrow.
	sheet := folder{}
	var cells bytes.Buffer
	cells.WriteString("Prüfsumme (MD5);Größe (Bytes);Dateiname\r\n")
	for i, name := range []string{"lamp-ctl-3.8-head.bin", "lamp-ctl-3.8-drive.bin", "lamp-ctl-3.8-sensor.bin"} {
		sheet[name] = image(name, 64<<10)
		value := fmt.Sprintf("%x", md5.Sum(sheet[name])) //nolint:gosec // as such lists are
		if i == 2 {
			value = value[:28]
		}
		fmt.Fprintf(&cells, "%s;%d;%s\r\n", value, len(sheet[name]), name)
	}
	sheet["uebersicht.csv"] = cells.Bytes()

	// A letter as the mail program kept it: wrapped, values above names, and one of
	// the files was downloaded twice.
	letter := folder{}
	var body bytes.Buffer
	body.WriteString(
		"From: The Oarlock maintainers <release@oarlock.example>\nSubject: logger 2.6\nContent-Transfer-Encoding: quoted-printable\n\n",
	)
	text := quotedprintable.NewWriter(&body)
	fmt.Fprint(text, "Hello everybody,\n\nlogger 2.6 is out. SHA-256 of the images:\n")
	for _, edition := range []string{"arm64", "armv6"} {
		name := "oarlock-logger-2.6-" + edition + ".img"
		letter[name] = image(name, 128<<10)
		fmt.Fprintf(text, "\n%x\n%s\n", sha256.Sum256(letter[name]), name)
	}
	fmt.Fprintf(
		text, "\nIt is built from %x.\n\nFair winds,\nthe Oarlock maintainers\n", sha256.Sum256([]byte("sources")),
	)
	must(text.Close())
	letter["logger-2.6.eml"] = bytes.ReplaceAll(body.Bytes(), []byte("\r\n"), []byte("\n"))
	letter["oarlock-logger-2.6-armv6 (1).img"] = letter["oarlock-logger-2.6-armv6.img"]
	delete(letter, "oarlock-logger-2.6-armv6.img")

	return map[string]folder{
		"lanternfell/lamp-ctl-3.7-page":  page,
		"lanternfell/lamp-ctl-3.8-sheet": sheet,
		"oarlock/logger-2.6-letter":      letter,
	}
}
